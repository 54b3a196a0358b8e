"""The overview: which version of which package is in force where, and what about it is not in order."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import field

from amphora.core.plan.claims import Claims
from amphora.core.values.errors import AmphoraError
from amphora.core.values.late import dataclass
from amphora.core.values.model import Claim
from amphora.core.values.versions import is_version, newest, version_order
from amphora.engine.edits import edits_of, still_ours
from amphora.engine.session import Session
from amphora.ledger.proofs import Proved
from amphora.ledger.records import Entry, Run


@dataclass(frozen=True)
class Standing:
    """How one package stands in one environment. `version` is the newest that is in force there, `behind` how many
    newer ones are known; `edits` counts what was changed there since, None where nobody looked. `runs` are open ones,
    `still` the tasks of aftercare."""

    version: str
    items: int = 0
    behind: int = 0
    edits: int | None = None
    runs: tuple[Run, ...] = ()
    still: tuple[Entry, ...] = ()
    proved: Proved | None = None

    @property
    def troubles(self) -> list[str]:
        """What is not in order, in words; being behind is no trouble, but a choice."""
        found = [f"{run.name} is {run.state}" for run in self.runs]
        if self.edits:
            found.append(f"{self.edits} edited there" if self.edits > 1 else "1 item edited there")
        if self.still:
            found.append(f"{len(self.still)} still to do" if len(self.still) > 1 else "1 thing still to do")
        if self.proved and self.proved.wrong:
            found.append(f"not as promised when last verified, {self.proved.at[:10]}")
        return found


@dataclass(frozen=True)
class Overview:
    """Packages and environments, and how each package stands in each; pairs that have nothing to do with one another
    are left out. `latest` is the newest version of each package, `sources` where it was exported, `blind` the
    environments that could not be looked at, with the reason."""

    packages: Sequence[str]
    environments: Sequence[str]
    cells: Mapping[tuple[str, str], Standing] = field(default_factory=dict)
    latest: Mapping[str, str] = field(default_factory=dict)
    sources: Collection[tuple[str, str]] = ()
    blind: Mapping[str, str] = field(default_factory=dict)

    @property
    def troubled(self) -> list[tuple[str, str, Standing]]:
        """What is not in order: package, environment and how it stands there."""
        return [(package, name, cell) for (package, name), cell in self.cells.items() if cell.troubles]

    @property
    def behind(self) -> list[tuple[str, str, Standing]]:
        """Where an older version is in force than there is."""
        return [(package, name, cell) for (package, name), cell in self.cells.items() if cell.behind]

    @property
    def is_clean(self) -> bool:
        """Whether everything that could be looked at is in order, and everything could."""
        # What could not be looked at is not in order: a nightly job has to hear of it.
        return not self.troubled and not self.blind


def overview(session: Session, environments: Sequence[str], looks: bool = True) -> Overview:
    """How all packages stand in these environments; with a look at each of them, or by the ledger alone."""
    ledger = session.ledger
    # One that can't be reached is told below.
    known, _ = session.known(environments) if looks else (ledger.uids(), None)
    # By claims, for a package that was withdrawn or let go is in force nowhere.
    claims = {name: ledger.claims(known[name]) for name in environments if name in known}
    exported = ledger.exports.versions()
    named = _named(
        [*exported, *((c.package, c.source_uid) for rows in claims.values() for c in rows)], ledger.exports.sources()
    )
    versions: dict[str, set[str]] = {}
    for pair, numbers in exported.items():
        versions.setdefault(named[pair], set()).update(numbers)
    # Versions that came from elsewhere were never exported here, and count all the same.
    for claim in (claim for rows in claims.values() for claim in rows):
        versions.setdefault(named[claim.package, claim.source_uid], set()).add(claim.version)
    edited, blind = _edited(session, {name: known[name] for name in environments if name in known}, looks)
    proofs, entries = ledger.proofs.latest(), ledger.aftercare.open()
    runs = [run for run in ledger.journal.runs() if run.is_open]
    cells = {}
    for name, rows in claims.items():
        # A first import that stopped in its middle has no claim yet, and must not be overlooked.
        uid = known[name]
        open_here = {run.package for run in runs if run.uid == uid}
        here: dict[str, list[Claim]] = {}
        for claim in rows:
            here.setdefault(named[claim.package, claim.source_uid], []).append(claim)
        for package in {*here, *(open_here - {claim.package for claim in rows})}:
            mine = here.get(package, [])
            plain = mine[0].package if mine else package
            cells[package, name] = Standing(
                (version := newest(claim.version for claim in mine)),
                len(mine),
                _behind(version, versions.get(package, set())),
                _edits_in(edited, name, mine),
                tuple(run for run in runs if (run.uid, run.package) == (uid, plain)),
                tuple(entry for entry in entries if (entry.uid, entry.package) == (uid, plain)),
                proofs.get((uid, plain)),
            )
    packages = sorted({*versions, *(package for package, _ in cells)})
    where = ledger.exports.sources()
    return Overview(
        packages,
        list(environments),
        cells,
        {package: newest(versions.get(package, ())) for package in packages},
        {(named[pair], where[pair[1]]) for pair in exported},
        blind,
    )


def _named(pairs: Iterable[tuple[str, str]], sources: Mapping[str, str]) -> dict[tuple[str, str], str]:
    """What each package is called, by name and source uid: two of one name from two sources are two packages."""
    uids: dict[str, list[str]] = {}
    for name, uid in dict.fromkeys(pairs):
        uids.setdefault(name, []).append(uid)
    return {
        (name, uid): name if len(mine) == 1 else f"{name} (of {sources.get(uid, uid[:12])})"
        for name, mine in uids.items()
        for uid in mine
    }


def _edits_in(edited: Mapping[str, Mapping[tuple[str, str], int]], name: str, mine: Sequence[Claim]) -> int | None:
    """How many items of a package were edited in an environment; None where nobody looked."""
    if name not in edited:
        return None
    return sum(edited[name].get(pair, 0) for pair in {(one.package, one.source_uid) for one in mine})


def _behind(version: str, known: Collection[str]) -> int:
    # Nothing of it is in force: behind what?
    if not is_version(version):
        return 0
    return sum(is_version(one) and version_order(one) > version_order(version) for one in known)


def _edited(
    session: Session, environments: Mapping[str, str], looks: bool
) -> tuple[dict[str, dict[tuple[str, str], int]], dict[str, str]]:
    """How many items of each package were edited in each environment, given with its uid; and where nobody could
    look."""
    edited: dict[str, dict[tuple[str, str], int]] = {}
    blind: dict[str, str] = {}
    for name, uid in environments.items() if looks else ():
        try:
            if session.open(name).description.uid != uid:
                blind[name] = f"{name} is another environment by now."
                continue
            found = edits_of(session, name)
        # One that is down must not keep the others from being seen.
        except AmphoraError as error:
            blind[name] = error.message
            continue
        edited[name] = {}
        last = {one.key: (one.delivery.package, one.delivery.source_uid) for one in still_ours(found)}
        for keepers in Claims(session.ledger.claims(uid)).keepers(last).values():
            for package in keepers:
                edited[name][package] = edited[name].get(package, 0) + 1
    return edited, blind
