"""What became of delivered items: who delivered them when, whose claims, and what was edited since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from amphora.core.checks.context import Claim
from amphora.core.form.bindings import MISSING
from amphora.core.merge.merge import FieldChange
from amphora.core.needs.needs import needs_of
from amphora.core.needs.selection import choose, readable
from amphora.core.plan.docket import Docket, Fate
from amphora.core.values.errors import NotReady, UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Json, Listed
from amphora.engine.docket import Prepared, prepare
from amphora.engine.imports import keeper
from amphora.engine.retirement import retirements_of
from amphora.engine.runs import Outcome, carry_out
from amphora.engine.session import Session
from amphora.engine.sides import Side, own_side, read_items
from amphora.engine.verify import Verified, verify
from amphora.engine.versions import version_for
from amphora.files.package import SUFFIX, find_package, read_package, write_package
from amphora.ledger.records import Delivered, Delivery

CARRIED_BACK = "edits"


@dataclass(frozen=True)
class Traced:
    """One item's deliveries (the latest first, which is in force), claims, and local edits since."""

    environment: str
    key: Key
    listed: Listed
    deliveries: tuple[Delivered, ...]
    claims: tuple[Claim, ...]
    edits: tuple[FieldChange, ...]


@dataclass(frozen=True)
class Edited:
    """One item that was changed in an environment since its last delivery, or is gone."""

    key: Key
    delivery: Delivery
    listed: Listed | None
    changes: tuple[FieldChange, ...]

    @property
    def title(self) -> str:
        return self.listed.states.title if self.listed else self.delivery.merged_states.title


def trace(session: Session, environment: str, name: str) -> Traced:
    """The history of one item of an environment."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    [key, *_] = choose([name], side.by_key, environment)
    found = session.ledger.deliveries_of(side.uid, key)
    claims = [claim for claim in session.ledger.claims(side.uid) if claim.key == key]
    edits = verify(session, environment, [_as_packed(found[0].delivery)])[0].differences if found else ()
    return Traced(environment, key, side.by_key[key], tuple(found), tuple(claims), edits)


def edits_of(session: Session, environment: str) -> list[Edited]:
    """Everything in an environment that isn't as the packages in force delivered it: edited since, or edited
    before and kept by an import. What was carried back and delivered again is no longer among it."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    latest = session.ledger.last_deliveries(side.uid)
    claimed = {claim.key for claim in session.ledger.claims(side.uid)}
    wanted = [_as_packed(delivery) for key, delivery in sorted(latest.items()) if key in claimed]
    return [
        Edited(one.key, latest[one.key], side.by_key.get(one.key), one.differences)
        for one in verify(session, environment, wanted)
        if not one.is_as_promised or _has_draft(side, one)
    ]


def carry_back(session: Session, environment: str, edits: list[Edited]) -> tuple[Contents, str]:
    """Makes a package of what was edited, with the delivered forms inside as its base; gives it and its file."""
    there = [one for one in edits if one.listed and not one.listed.is_drafted_only]
    if not there:
        raise NotReady(f"Nothing was edited in {environment}.", next_step=f"amphora survey {environment}")
    opened = session.open(environment)
    side = own_side(opened, session.ledger, session.crosswalk)
    deliveries = {one.key: one.delivery for one in there}
    bases = {key: delivery.base for key, delivery in deliveries.items()}
    items, _, noticed = read_items(side, list(deliveries), bases=bases, binds_new=True)
    files = {name: raw for portable in noticed.values() for name, raw in portable.files.items()}
    types = {key: type(value).__name__ for key, value in side.names.values.items() if key.startswith("setting:")}
    contents = Contents(
        f"{environment}-{CARRIED_BACK}",
        "0.0.0",
        environment,
        side.uid,
        dict(sorted(items.items())),
        tuple(needs_of(items, types)),
        f"Edits made in {environment}, to be carried back.",
        {item.kind: opened.description.sheets[item.kind].source for item in items.values()},
        files,
        source_release=opened.description.release,
        bases={key: (base.form, base.states) for key, base in bases.items()},
    )
    version, _ = version_for(session, contents, None)
    contents = replace(contents, version=version)
    path = session.workspace.packages / f"{contents.name}-{version}{SUFFIX}"
    digest = write_package(contents, path)
    session.ledger.record_export(contents, digest, str(path))
    return replace(contents, package_digest=digest), str(path.relative_to(session.workspace.folder))


def put_back_dockets(session: Session, environment: str, edits: list[Edited]) -> list[Docket]:
    """For each package whose items were edited, a docket that restores what it delivered."""
    dockets = []
    by_package: dict[tuple[str, str], list[Edited]] = {}
    for one in edits:
        if one.changes:
            by_package.setdefault((one.delivery.package, one.delivery.version), []).append(one)
    for (package, version), some in by_package.items():
        contents = read_package(find_package(f"{package}-{version}", session.workspace.packages))
        choices = {one.key: _restoring(one) for one in some}
        dockets.append(prepare(session, contents, environment, choices).docket)
    return dockets


def withdrawal(session: Session, package: str, environment: str, fates: Mapping[str, str]) -> Prepared:
    """The docket of retiring everything in an environment that a package alone claims; what was there before it is
    let go. Refused where items that stay use something of it."""
    opened = session.open(environment)
    side = own_side(opened, session.ledger, session.crosswalk)
    claims = session.ledger.claims(side.uid)
    mine = [claim for claim in claims if claim.package == package]
    if not mine:
        known = sorted({claim.package for claim in claims})
        raise UsageFault(
            f"{package} claims nothing in {environment}.",
            subject=package,
            details=[f"packages that do: {', '.join(known) or 'none'}"],
            next_step=f"amphora survey {environment}",
        )
    shared = {claim.key for claim in claims if claim.package != package}
    alone = [claim.key for claim in mine if claim.key not in shared and claim.key in side.by_key]
    ours = session.ledger.created(side.uid)
    everything = {
        key: (Fate.RETIRE if side.by_key[key].native_id in ours else Fate.LET_GO).value for key in alone
    } | dict(fates)
    retirements = retirements_of(session, side, alone, {}, everything)
    blocked = [one for one in retirements if one.fate is Fate.RETIRE and one.users]
    if blocked:
        raise NotReady(
            f"{package} can't be withdrawn from {environment}: others use what it brought; nothing was touched.",
            subject=blocked[0].key,
            details=[f"{readable(one.key)} is used by {readable(user)}" for one in blocked for user in one.users],
            next_step=f"amphora withdraw {package} {environment} "
            + " ".join(f"--let-go {readable(one.key)}" for one in blocked),
        )
    version = max((claim.version for claim in mine), default="")
    docket = Docket(
        package=package,
        version=version,
        source_uid=mine[0].source_uid,
        package_digest="",
        target=environment,
        target_uid=side.uid,
        ledger_uid=session.ledger.uid(),
        actions=(),
        bindings=side.names,
        mapped=(),
        findings=(),
        fingerprint="",
        retirements=tuple(retirements),
    )
    contents = Contents(package, version, "", mine[0].source_uid, {}, ())
    return Prepared(docket, side, opened, contents)


def withdraw(session: Session, prepared: Prepared) -> Outcome:
    """Carries out a withdrawal: rows are kept first; claims on what others claim too are ended."""
    docket = prepared.docket
    may = prepared.opened.environment.whoami().permissions
    if docket.fated(Fate.RETIRE) and "retire" not in may:
        raise NotReady(
            f"{prepared.opened.environment.whoami().account} may not retire in {docket.target}; nothing was touched.",
            next_step="Sign in with another account, or ask for the permission.",
        )
    outcome = carry_out(docket, prepared.opened, session.ledger, session.listener, keeper(session))
    if outcome.failure is None:
        mine = [claim.key for claim in session.ledger.claims(docket.target_uid) if claim.package == docket.package]
        shared = [key for key in mine if key not in {one.key for one in docket.retirements}]
        session.ledger.end_claims(docket.target_uid, docket.package, docket.source_uid, shared)
    return outcome


def _as_packed(delivery: Delivery) -> Delivery:
    """A delivery as if nothing of the target had been kept: what the package itself held."""
    return replace(delivery, merged=delivery.base.form, merged_states=delivery.base.states)


def _has_draft(side: Side, one: Verified) -> bool:
    row = side.by_key.get(one.key)
    return row is not None and row.has_draft


def _restoring(one: Edited) -> dict[str, Json]:
    """For each edited place the choice that brings the delivered value back."""
    choices: dict[str, Json] = {}
    for change in one.changes:
        delivered = change.target
        choices[change.place] = "package" if delivered is MISSING else {"value": delivered}
    return choices
