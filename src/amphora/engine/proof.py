"""Proof: is a target what was promised, in every respect that can be looked at, and has anything else changed?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace
from enum import StrEnum

from amphora.core.form.parts import parts_named, parts_of
from amphora.core.form.places import PartOf
from amphora.core.plan.claims import Claims
from amphora.core.values.errors import NotReady
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Listed
from amphora.core.values.next_step import to_type
from amphora.core.values.scan import token_places
from amphora.core.values.versions import newest
from amphora.core.values.words import few
from amphora.engine.elsewhere import Elsewhere, Others, others_since
from amphora.engine.mender import Menders
from amphora.engine.pages import Pages, opened_pages
from amphora.engine.session import Session
from amphora.engine.sides import Side, read_items
from amphora.engine.subject import nothing_of, without_version
from amphora.engine.verify import Look, Verified, looked_at
from amphora.environments.contract import Probes
from amphora.ledger.proofs import Proved
from amphora.ledger.records import DONE, Delivery, Run

SWITCHED = ("state:on", "state:published")
"""The places of states that are wished for; title and folder are told with the definition."""

UNBOUND = "amphora:unbound:"
"""How a token begins whose id leads nowhere."""


class Cause(StrEnum):
    """Why an item is not as it was promised."""

    EDITED = "edited there"
    GONE = "removed there"
    DAMAGE = "not what was written"
    REFUSED = "not taken there as it was written"
    UNKNOWN = "differs"


@dataclass(frozen=True)
class Off:
    """One item that is not as promised: why, and who changed it last, when."""

    cause: Cause
    who: str = ""
    at: str = ""


@dataclass(frozen=True)
class Connection:
    """A connection that delivered items use, and whether it answers; None where nobody can tell."""

    name: str
    native: str
    is_working: bool | None
    reason: str = ""


@dataclass(frozen=True)
class Proof:
    """What a look at one target showed.

    `references` counts the places that lead to something, `dangling` those, by item, that lead nowhere and did not
    when they were delivered, `lost` those that lead to a part which is not there, in words. `links` are the addresses
    that people were told, `moved` the items that are elsewhere by now, `pages` what came of opening them. `later`
    names, for items that a later run (of another package, where a package is looked at) brought again, that run;
    `gone` how many were retired, withdrawn or let go since. `others` is what became of everything else.
    """

    environment: str
    package: str
    version: str
    run: Run | None
    items: tuple[Verified, ...]
    off: Mapping[Key, Off] = field(default_factory=dict)
    references: int = 0
    dangling: Mapping[Key, int] = field(default_factory=dict)
    lost: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)
    connections: tuple[Connection, ...] = ()
    links: int = 0
    moved: tuple[Key, ...] = ()
    pages: Pages = field(default_factory=Pages)
    turned: tuple[Key, ...] = ()
    """What is one of the environment's own connections by now."""
    later: Mapping[Key, str] = field(default_factory=dict)
    gone: int = 0
    others: Others = field(default_factory=Others)
    absent: str = ""
    """Why nothing of it is in force there, where that is so."""
    theirs: Mapping[Key, Off] = field(default_factory=dict)
    """What was handed over, and is another by now: whoever works there may go on with it."""

    @property
    def broken(self) -> tuple[Connection, ...]:
        """The connections that don't answer."""
        # None is no trouble: nobody can tell, and nothing was promised.
        return tuple(one for one in self.connections if one.is_working is False)

    @property
    def by_us(self) -> tuple[Elsewhere, ...]:
        """What a run changed without being asked to."""
        return tuple(one for one in self.others.moved if one.is_ours)

    @property
    def changed_since(self) -> tuple[Elsewhere, ...]:
        """What has become another since, by somebody else."""
        return tuple(one for one in self.others.moved if not one.is_ours and not one.is_same)

    @property
    def stateless(self) -> tuple[Key, ...]:
        """The items whose states are not as wished."""
        mine = (one for one in self.items if one.key not in self.theirs)
        return tuple(one.key for one in mine if any(c.place in SWITCHED for c in one.differences))

    @property
    def wrong(self) -> dict[str, str]:
        """What is off, with the reason."""
        pages = self.pages
        found: dict[str, str] = {key: f"its link doesn't open: {pages.closed[key]}" for key in sorted(pages.missing)}
        found |= {key: f"uses {few(words)}, which is not there" for key, words in self.lost.items()}
        found |= {key: off.cause.value for key, off in self.off.items()}
        # Under names of their own: an item may be called like a connection.
        found |= {f"connection:{one.name}": f"does not answer: {one.reason}" for one in self.broken}
        found |= {self.package: self.absent} if self.absent else {}
        return found | {one.title: f"{one.what} by the run" for one in self.by_us}

    @property
    def only_edited(self) -> int:
        """How many items are not as promised because somebody edited them there; 0 where anything else is off."""
        is_more = bool(self.dangling or self.lost or self.broken or self.by_us or self.pages.missing)
        is_more = is_more or any(off.cause is not Cause.EDITED for off in self.off.values())
        return 0 if is_more else len(self.off)

    @property
    def is_whole(self) -> bool:
        """Whether everything is as promised."""
        return not self.wrong


def prove_package(session: Session, package: str, environment: str) -> Proof:
    """The proof for what is in force of a package in an environment; NotReady where that is another version than the
    one that is named (`mill-1.0.0`)."""
    opened = session.open(environment)
    uid = opened.description.uid
    # By claims and not by deliveries: what was retired, withdrawn or let go since is promised by nobody.
    all_claims = Claims(session.ledger.claims(uid))
    package = without_version(package, all_claims.rows, environment)
    claims = all_claims.of(package)
    if not claims:
        raise nothing_of(session, package, environment, uid)
    latest = session.ledger.last_deliveries(uid)
    ours = [latest[key] for key in dict.fromkeys(claim.key for claim in claims) if key in latest]
    # What another package has brought since is that one's promise, although this one still claims it.
    keepers = all_claims.keepers({one.key: (one.package, one.source_uid) for one in ours})
    theirs = [key for key, mine in keepers.items() if all(name != package for name, _ in mine)]
    later = {key: session.ledger.deliveries_of(uid, key)[0].run for key in theirs}
    mine = [one for one in ours if one.key not in later]
    proof, side = _proved(session, environment, mine)
    version = newest(claim.version for claim in claims)
    others = Others()
    if number := max((one.run_id for one in mine), default=0):
        last = next(run for run in session.ledger.journal.runs() if run.id == number)
        # Whichever of its runs brought it, what is the package's own is told of with it.
        others = others_since(session, side, last, {one.key for one in ours})
    return _recorded(session, replace(proof, package=package, version=version, later=later, others=others))


def prove_targets(session: Session, package: str, environments: Sequence[str]) -> list[Proof]:
    """The proofs for several targets. One in which nothing of it is in force keeps no other from being looked at; in
    none at all is an error."""
    proofs: list[Proof] = []
    errors: list[NotReady] = []
    for name in environments:
        try:
            proofs.append(prove_package(session, package, name))
        except NotReady as error:
            errors.append(error)
            proofs.append(Proof(name, package, "", None, (), absent=error.message))
    if len(errors) == len(proofs):
        raise errors[0]
    return proofs


def prove_run(session: Session, run: Run) -> Proof:
    """The proof for what a run brought, and for what it was not to touch."""
    delivered = session.ledger.delivered(run)
    claimed = Claims(session.ledger.claims(run.uid)).claimed([one.key for one in delivered])
    mine = [one for one in delivered if one.key in claimed]
    if not mine:
        # Done, and nothing of it claimed: what it brought was taken away by later runs, and not by putting it back.
        why = "what it brought is withdrawn or let go" if delivered and run.state == DONE else f"it is {run.state}"
        raise NotReady(
            f"{run.name} left nothing that could be verified: {why}.",
            subject=run.name,
            next_step=to_type("history", run.name),
        )
    # What a later run brought again is what that one promised: the older promise is out of force, not broken.
    latest = {one.key: session.ledger.deliveries_of(run.uid, one.key)[0].run for one in mine}
    later = {key: name for key, name in latest.items() if name != run.name}
    run = session.placed(run)
    proof, side = _proved(session, run.environment, [one for one in mine if one.key not in later])
    proof = replace(
        proof,
        package=run.package,
        version=run.version,
        run=run,
        later=later,
        gone=len(delivered) - len(mine),
        others=others_since(session, side, run),
    )
    return _recorded(session, proof)


def _recorded(session: Session, proof: Proof) -> Proof:
    """Remembers when it was looked at, and what that came to."""
    opened = session.open(proof.environment)
    run, account = proof.run.id if proof.run else None, opened.environment.whoami().account
    uid = opened.description.uid
    session.ledger.proofs.record(
        Proved(uid, run, proof.package, proof.version, account, len(proof.items), proof.wrong)
    )
    return proof


def _proved(session: Session, environment: str, deliveries: Sequence[Delivery]) -> tuple[Proof, Side]:
    look = looked_at(session, environment, deliveries)
    rows = look.side.by_key
    wrong = [one for one in look.verified if not one.is_as_promised]
    promised = {one.key: _dangling(token.token for token in token_places(one.merged)) for one in deliveries}
    found = {key: _dangling(place.token for place in item.places) for key, item in look.items.items()}
    told = session.ledger.addresses(look.side.uid)
    linked = {one.key: rows[one.key] for one in deliveries if one.key in rows and told.get(rows[one.key].native_id)}
    menders = Menders(session.ledger, look.side.uid)
    blamed = {one.key: _blamed(session, one, rows.get(one.key), menders) for one in wrong}
    blamed |= {key: Off(Cause.REFUSED) for key in look.refused}
    handed_over = Claims(session.ledger.claims(look.side.uid)).handed_over(blamed)
    theirs = {k: o for k, o in blamed.items() if k in handed_over and o.cause in (Cause.EDITED, Cause.GONE)}
    proof = Proof(
        environment,
        "",
        "",
        None,
        look.verified,
        {key: off for key, off in blamed.items() if key not in theirs},
        sum(len(item.places) for item in look.items.values()),
        # Only what did not dangle when it was delivered: what led nowhere in the source is what was promised.
        {key: count - promised[key] for key, count in found.items() if count > promised[key]},
        _lost(look),
        tuple(_connections(session, environment, deliveries)),
        len(linked),
        tuple(key for key, row in linked.items() if row.link != told[row.native_id]),
        opened_pages(session, look.side, linked),
        look.turned,
        theirs=theirs,
    )
    return proof, look.side


def _lost(look: Look) -> dict[Key, tuple[str, ...]]:
    """The parts that items use of others, where these don't have them (any more), as `PART of ITEM`."""
    sheets, rows = look.side.opened.description.sheets, look.side.by_key
    uses = {key: [use for _, use in parts_named(item, sheets[item.kind])] for key, item in look.items.items()}
    # What they use may be no part of the package: read only for this.
    others = sorted({use.key for mine in uses.values() for use in mine} & rows.keys() - look.items.keys())
    holders = {**look.items, **read_items(look.side, others)[0]}
    known: dict[tuple[Key, PartOf | None], set[str]] = {}
    found: dict[Key, tuple[str, ...]] = {}
    for key, mine in uses.items():
        for use in (use for use in mine if use.key in holders):
            holder = holders[use.key]
            if (use.key, use.by) not in known:
                known[use.key, use.by] = parts_of(holder.form, sheets[holder.kind], use.by)
            if use.part not in known[use.key, use.by]:
                words = f"{use.part!r} of {readable(use.key)}"
                found[key] = tuple(dict.fromkeys((*found.get(key, ()), words)))
    return found


def _dangling(tokens: Iterable[str]) -> int:
    return sum(token.startswith(UNBOUND) for token in tokens)


def _blamed(session: Session, one: Verified, row: Listed | None, menders: Menders) -> Off:
    """Why an item is not as promised, as far as the target and the ledger tell."""
    if row is None:
        return Off(Cause.GONE)
    # What a run of ours wrote back is its maker's, here as among the edits.
    who, at = menders.of(one.key, row)
    found = session.ledger.deliveries_of(menders.uid, one.key)
    if not found or not at:
        return Off(Cause.UNKNOWN, who, at)
    # Times to the second: whatever is later than the end of the run was not its doing. What is older, and its own
    # account's, nobody edited: then the target has something else than what was written.
    run = session.ledger.journal.run(found[0].run)
    is_ours = who == run.account and run.ended_at is not None and at <= run.ended_at
    return Off(Cause.DAMAGE if is_ours else Cause.EDITED, who, at)


def _connections(session: Session, environment: str, deliveries: Sequence[Delivery]) -> list[Connection]:
    """The connections with which items were delivered, each probed once."""
    adapter = session.open(environment).environment
    natives = {
        key: str(value)
        for one in deliveries
        for key, value in one.base.bindings.items()
        if key.startswith("connection:")
    }
    found = []
    for key, native in sorted(natives.items()):
        name = key.partition(":")[2]
        if isinstance(adapter, Probes):
            probe = adapter.probe(native, ())
            found.append(Connection(name, native, probe.is_working, probe.reason))
        else:
            found.append(Connection(name, native, None))
    return found
