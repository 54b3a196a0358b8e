"""The record: runs that were asked for, and one run with all that is known of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field
from functools import cached_property
from typing import Any

from amphora.core.plan.kept import Line, findings_of, lines_of, retired_of
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.moments import moment
from amphora.core.values.next_step import to_type
from amphora.engine.session import Session, utc_now
from amphora.ledger.proofs import Proved
from amphora.ledger.records import AFTERCARE, DONE, OPEN, PAUSED, Entry, JournalStep, LegOf, Run, ending

COMPLETE = "complete"
STATES = ("running", "paused", "kept", "done", COMPLETE, "put back", "undone", "broken off")


@dataclass(frozen=True)
class Asked:
    """Which runs somebody wants to see: of environments or groups, of a package, by whom, since when, in which
    states. Empty is all."""

    environments: Sequence[str] = ()
    package: str = ""
    by: str = ""
    since: str = ""
    states: Sequence[str] = ()


@dataclass(frozen=True)
class Told:
    """A run with how it stands: `complete` where its aftercare is done too; `still` is how many tasks are open,
    `wrong` how many of its items were not as promised when they were last looked at."""

    run: Run
    state: str
    still: int = 0
    wrong: int = 0

    @property
    def ending(self) -> str:
        """How it ended, in words."""
        return ending(self.run, self.state)


@dataclass(frozen=True)
class Record:
    """One run in full. `lines` are its docket's items, `gone` what the package no longer held, `links` the
    addresses by item, as they are now, `agreed` who signed the docket, `brought` what is recorded as delivered; of
    runs that older builds kept they are empty."""

    told: Told
    steps: Sequence[JournalStep]
    legs: Sequence[LegOf]
    backwards: Sequence[Run]
    lines: Sequence[Line] = ()
    gone: Sequence[tuple[Key, str, str, int]] = ()
    findings: Sequence[tuple[str, str, str, str]] = ()
    bindings: Mapping[str, Any] = field(default_factory=dict)
    links: Mapping[Key, str] = field(default_factory=dict)
    care: Sequence[Entry] = ()
    proofs: Sequence[Proved] = ()
    agreed: Sequence[str] = ()
    package_digest: str = ""
    of_run: str = ""
    brought: frozenset[Key] = frozenset()

    @property
    def run(self) -> Run:
        return self.told.run

    @property
    def is_over(self) -> bool:
        """Whether the run has come to an end: each of its items is in then, or none."""
        return not (self.run.is_open or self.run.state == PAUSED)

    @cached_property
    def so_far(self) -> Mapping[Key, str]:
        """How far each item got that a run is to write which is not over, as the journal has it."""
        states: dict[Key, set[str]] = {}
        for step in self.steps:
            for key in step.keys:
                states.setdefault(key, set()).add(step.state)
        wanted = [] if self.is_over else [line.key for line in self.lines if line.do != "leave"]
        return {key: "in" if key in self.brought else _got_to(states.get(key, set())) for key in wanted}

    @property
    def touched(self) -> list[Line]:
        """The items with which something was done, or that differ."""
        return [line for line in self.lines if line.do != "leave" or line.changes]


def _got_to(states: set[str]) -> str:
    # A call of which nobody knows what became of it counts more than those before it.
    return "uncertain" if states & {"uncertain", "intended"} else "begun" if "done" in states else "not yet"


def told_runs(session: Session, asked: Asked) -> list[Told]:
    """The runs that were asked for, the latest first."""
    ledger = session.ledger
    # Once for all of them: "yesterday" must not pass by while they are looked through.
    since = moment(asked.since, utc_now(), "--since") if asked.since else ""
    # One that was taken out of the workspace is in the record still.
    gone = {run.environment for run in ledger.journal.runs()} - session.workspace.environments.keys()
    here = [name for name in asked.environments if name not in gone or name in session.workspace.groups]
    names = set(session.workspace.targets(here)) if here else set()
    known, _ = session.known(names) if names else ({}, None)
    names |= gone.intersection(asked.environments)
    uids = {known[name] for name in names if name in known}
    if unknown := [state for state in asked.states if state not in STATES]:
        raise UsageFault(
            f"--state is {', '.join(STATES)}, not {unknown[0]!r}.", subject=unknown[0], next_step=to_type("history")
        )
    still, wrong = _still(session), ledger.proofs.wrong()
    found = [_told(run, still.get(run.name, 0), wrong.get(run.id, 0)) for run in ledger.journal.runs()]
    return [
        one
        for one in found
        if (not names or one.run.environment in names or one.run.uid in uids)
        and (not asked.package or one.run.is_of(asked.package))
        and asked.by.casefold() in one.run.account.casefold()
        and one.run.started_at >= since
        and (not asked.states or one.state in asked.states)
    ]


def _still(session: Session) -> dict[str, int]:
    found: dict[str, int] = {}
    for entry in session.ledger.aftercare.open():
        found[entry.run] = found.get(entry.run, 0) + 1
    return found


def _told(run: Run, still: int, wrong: int) -> Told:
    # Of runs of older builds nobody knows what had to follow: they stay done.
    is_complete = run.state == DONE and run.cared and not still
    return Told(run, COMPLETE if is_complete else run.state, still, wrong if run.state == DONE else 0)


def run_to_tell(session: Session, name: str) -> Run:
    """The run that a name means; `last` is the latest, but for aftercare, which is told with the run that it is
    of."""
    runs = session.ledger.journal.runs() if name == "last" else []
    return next((run for run in runs if run.kind != AFTERCARE), None) or session.ledger.journal.run(name)


def record_of(session: Session, run: Run) -> Record:
    """One run with all that the ledger knows of it."""
    ledger = session.ledger
    kept = ledger.journal.docket(run) or {}
    # As they were then: what the package holds now, or is called now, is another matter.
    lines = lines_of(kept)
    addresses = ledger.addresses(run.uid)
    now = {one.key: addresses.get(one.native_id, "") for one in ledger.delivered(run)}
    # Without those that are gone: an address that leads nowhere is none to tell people.
    links = {line.key: now[line.key] for line in lines if now.get(line.key)}
    care = ledger.aftercare.of_run(run)
    still = sum(entry.state == OPEN for entry in care)
    names = {other.id: other.name for other in ledger.journal.runs()} if run.of_run else {}
    return Record(
        _told(run, still, ledger.proofs.wrong().get(run.id, 0)),
        ledger.journal.steps(run),
        ledger.journal.legs(run),
        ledger.journal.backwards_of(run),
        lines,
        retired_of(kept),
        findings_of(kept),
        kept.get("mapped") or kept.get("bindings", {}),
        links,
        care,
        ledger.proofs.of_run(run),
        tuple(kept.get("agreed", ())),
        ledger.journal.package_digest(run),
        names.get(run.of_run or 0, ""),
        frozenset(now),
    )
