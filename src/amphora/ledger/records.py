"""What the ledger remembers, as values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Final

from amphora.core.merge.compare import Base
from amphora.core.plan.aftercare import Task
from amphora.core.plan.states import Image
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, States
from amphora.core.values.words import counted

IMPORT: Final = "import"
WITHDRAWAL: Final = "withdrawal"
PUTTING_BACK: Final = "putting back"
UNDO: Final = "undo"
AFTERCARE: Final = "aftercare"
BACKWARDS: Final = (PUTTING_BACK, UNDO)
"""Kinds of runs that put another run back."""

RUNNING: Final = "running"
PAUSED: Final = "paused"
KEPT: Final = "kept"
DONE: Final = "done"
PUT_BACK: Final = "put back"
UNDONE: Final = "undone"
BROKEN_OFF: Final = "broken off"
OPEN: Final = "open"
TICKED: Final = "ticked"
NOT_NEEDED: Final = "not needed"
"""Ends of a task of aftercare, beside `done`, which somebody has seen by looking."""

# Paused is none of them: between two legs every item is whole.
OPEN_STATES: Final = (RUNNING, BROKEN_OFF, KEPT)
"""States in which a run stands in the middle of a leg: half of an item may be there."""

# Raised only when an older journal could be misread, for then it can no longer be undone.
RUN_FORMAT: Final = 2
"""The form of a run's journal; runs of format 1 can be read and not undone."""


@dataclass(frozen=True)
class Delivery:
    """One item brought into one environment by one run. `base` is the package's side, `merged` what the
    target was made to be (what `verify` expects). `rows` is how many rows were loaded into it."""

    key: Key
    native_id: str
    package: str
    source_uid: str
    version: str
    base: Base
    merged: Json
    merged_states: States
    rows: int | None = None
    run_id: int = 0


@dataclass(frozen=True)
class Delivered:
    """A delivery as it stands in the history of one item."""

    at: str
    run: str
    account: str
    delivery: Delivery


@dataclass(frozen=True)
class Run:
    """One carrying out of a docket. `of_run` is the run that this one puts back, `campaign` the import into many
    targets that it is part of."""

    id: int
    name: str
    environment: str
    uid: str
    package: str
    version: str
    account: str
    state: str
    started_at: str
    ended_at: str | None
    note: str
    kind: str = IMPORT
    of_run: int | None = None
    format: int = RUN_FORMAT
    leg: int = 1
    campaign: str = ""
    cared: int = 0
    """Whether its aftercare was worked out: older builds did not."""
    why: str = ""
    """What whoever imported gave as the reason."""
    stays: int = 0
    """Of a run that was put back, and of one that puts back: how many items are not as they were before it."""
    returned: int = 0
    """Of the same: how many were put back."""
    attempt: str = ""
    """The state of the latest run that puts this one back, or was to."""

    @property
    def is_being_put_back(self) -> bool:
        """Whether somebody is putting it back just now, or was cut off at it."""
        return self.attempt == RUNNING and self.state not in (PUT_BACK, UNDONE)

    def is_of(self, package: str) -> bool:
        """Whether it brought a package that is named so, with its version or without."""
        return package in (self.package, f"{self.package}-{self.version}")

    @property
    def is_open(self) -> bool:
        """Whether something of it is or may be there, without it being done."""
        if self.kind in BACKWARDS:
            # An attempt at putting back stands and falls with the run that it was to put back: that one is open.
            return self.attempt in (RUNNING, BROKEN_OFF) and self.state not in (PUT_BACK, UNDONE)
        # A paused run is open as well: something of it is there, and more is to come.
        return self.is_being_put_back or self.state in (*OPEN_STATES, PAUSED)

    @property
    def can_go_on(self) -> bool:
        """Whether it can be resumed: it waits, and what it did before it waited is still there."""
        return self.kind == IMPORT and self.is_open and not (self.is_being_put_back and self.state in (DONE, PAUSED))

    @property
    def standing(self) -> str:
        """How it stands, for whoever has to settle it first."""
        if self.is_being_put_back:
            return "being put back, or that was cut off"
        return "still running, or was cut off" if self.state == RUNNING else self.state


def ending(run: Run, state: str) -> str:
    """How a run that is in this state ended, in words: "undone" alone would say that nothing of it is left."""
    if run.is_being_put_back:
        return f"{state}, being put back"
    if not run.stays or run.state == BROKEN_OFF:
        return state
    if run.returned:
        return f"{state} but for {counted(run.stays, 'item')}"
    return "nothing put back" if run.kind in BACKWARDS else f"not {state}"


NO_LONGER_THERE = "it is no longer there"
"""Why something about an item need not be done any more."""


@dataclass(frozen=True)
class Marking:
    """With what the marks of a kind's states are made: its sheet as text, and the members that are read, None where
    the platform's own definition is taken whole."""

    text: str
    reads: frozenset[str] | None = None


@dataclass(frozen=True)
class Beginning:
    """What is stored of a run before its first step: whose it is, the docket (never a secret's value), the state
    of every item that it will touch, and the revisions of everything else, with the marks of their states where these
    are known (by native id)."""

    kind: str
    environment: str
    uid: str
    account: str
    package: str = ""
    version: str = ""
    source_uid: str = ""
    package_digest: str = ""
    of_run: int | None = None
    docket: Json = None
    before: Mapping[Key, Image | None] = field(default_factory=dict)
    outside: Mapping[str, str] = field(default_factory=dict)
    campaign: str = ""
    name: str = ""
    """How the run is to be called; left out, by its environment and a number."""
    why: str = ""
    marks: Mapping[str, str] = field(default_factory=dict)
    sheets: Mapping[str, Marking] = field(default_factory=dict)
    """By kind, that with which marks of states are made."""


@dataclass(frozen=True)
class Campaign:
    """One import into many targets: the package, and what was asked for. Open until it is done in all of them."""

    name: str
    package: str
    version: str
    source_uid: str
    package_digest: str
    account: str
    started_at: str
    state: str
    request: Json

    @property
    def targets(self) -> list[str]:
        """The targets, in order."""
        # From the request and not from the runs: targets whose turn has not come have none.
        return [name for names in self.request["rounds"] for name in names]


@dataclass(frozen=True)
class LegOf:
    """One leg of a run: who carried it out, when, and the state in which it ended; empty while nobody knows."""

    number: int
    account: str
    began: str
    ended: str = ""
    state: str = ""


@dataclass(frozen=True)
class JournalStep:
    """One journalled step: intent before, outcome after. The intent holds the token, the ids known or chosen
    (`ids`) and the marks of the states meant (`meant`); the outcome the ids given (`ids`) and the marks of
    the states found afterwards (`left`), by key."""

    number: int
    do: str
    keys: tuple[Key, ...]
    intent: Json
    state: str
    outcome: Json
    at: str = ""


@dataclass(frozen=True)
class Entry:
    """One task of aftercare as the ledger keeps it: of which run, and how it stands: open, done (seen by looking),
    ticked by somebody, or not needed; by whom, when, and in which words."""

    number: int
    run: str
    environment: str
    uid: str
    package: str
    version: str
    task: Task
    state: str
    by: str = ""
    note: str = ""
    at: str = ""


@dataclass(frozen=True)
class Export:
    """One recorded export."""

    at: str
    environment: str
    package: str
    version: str
    contents_digest: str
    package_digest: str
    file: str
    layout_digest: str = ""
    uid: str = ""
    """That of the source."""
