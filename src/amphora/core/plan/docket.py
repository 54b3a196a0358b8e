"""The docket: what an import will do, item by item, as data; previews print it, imports carry it out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace
from enum import StrEnum
from functools import cached_property

from amphora.core.form.bindings import Bindings
from amphora.core.form.routes import Converted
from amphora.core.merge.compare import is_given_up
from amphora.core.merge.merge import FieldChange
from amphora.core.needs.crosswalk import Mapped
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.aftercare import Task
from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.rests import resting_in
from amphora.core.plan.steps import LoadRows, Step
from amphora.core.values.canon import digest
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Finding, Item, Json, Leak, Level, Listed, States
from amphora.core.values.raw import Raw


class Custody(StrEnum):
    """In whose hands the target's copy is afterwards."""

    PACKAGE = "package"
    TARGET = "target"


class IfItFails(StrEnum):
    """What becomes of a run that fails in its middle."""

    PUT_BACK = "put-back"
    KEEP = "keep"


class Parting(StrEnum):
    """What becomes of an item that the package no longer holds."""

    STAY = "stay"
    RETIRE = "retire"
    LET_GO = "let-go"


@dataclass(frozen=True)
class Retirement:
    """An item of the target that this package alone claims and no longer holds. `users` are items that stay
    and use it: while there are some it can't be retired; `everybody` those that go as well included. Letting go
    ends the claim and leaves the item. `was_there` tells that no run of ours created it, `is_handed_over` that it is
    in the target's custody. `along` names the item with which the environment removes this one, whosever it is;
    `claimed` are then the packages that hold it. Whoever removes what `has_secret` can't give that back: of a secret
    nothing is ever kept."""

    key: Key
    present: Listed
    users: tuple[str, ...] = ()
    fate: Parting = Parting.STAY
    was_there: bool = False
    everybody: tuple[str, ...] = ()
    along: Key = ""
    claimed: tuple[str, ...] = ()
    has_secret: bool = False
    is_handed_over: bool = False


@dataclass(frozen=True)
class Leg:
    """What goes in together: the items, the steps, and the needs that have to be served before the next leg begins:
    they are made by hand from what this one brought."""

    keys: tuple[Key, ...]
    steps: tuple[Step, ...]
    waits: tuple[Key, ...] = ()
    who: tuple[str, ...] = ()
    """Who can do that."""


@dataclass(frozen=True)
class Docket:
    """An import, decided or not yet. `fingerprint` is what the target's items were when it was made. `shared` names,
    for items that would be updated, the other packages that claim them (`NAME VERSION`). `since` names the package
    that served as base, `without` what of the package stays out, `leaks` what looks like a secret in what would be
    written or kept. `makers` says what each need is made from that can't be served before a pause, `bare` which of
    these an item lacks at first, `stuck` which items can't be there without one; `words` are the options of the
    command line that belong to it, `converted` what was brought to the target's shapes, `ids` which ones new items
    get, `id_taken` which of them can't have their own, as they should, `same` the items that are the one in their
    place, `care` what has to follow, `of_others` those that a run of another ledger made, with that ledger's uid,
    `pause_after` those after which somebody's word is awaited, and on what, `omissions` those of which somebody said
    whether they stay out from now on."""

    package: str
    version: str
    source_uid: str
    package_digest: str
    target: str
    target_uid: str
    ledger_uid: str
    actions: tuple[Action, ...]
    bindings: Bindings
    mapped: tuple[Mapped, ...]
    findings: tuple[Finding, ...]
    fingerprint: str
    custody: Custody = Custody.PACKAGE
    custody_was: Custody | None = None
    care: tuple[Task, ...] = ()
    legs: tuple[Leg, ...] = ()
    taken: tuple[tuple[Key, Key], ...] = ()
    file: str = ""
    files: Mapping[str, Raw] = field(default_factory=dict, repr=False)
    records: Mapping[Key, Raw] = field(default_factory=dict, repr=False)
    retirements: tuple[Retirement, ...] = ()
    left_out: tuple[Key, ...] = ()
    shared: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)
    since: str = ""
    without: tuple[str, ...] = ()
    filled: tuple[Key, ...] = ()
    unclaimed: tuple[Key, ...] = ()
    other_sources: tuple[str, ...] = ()
    edited_there: tuple[Key, ...] = ()
    has_records: bool = False
    source_file: str = ""
    leaks: tuple[tuple[Key, Leak], ...] = ()
    if_it_fails: IfItFails = IfItFails.PUT_BACK
    arrivals: Mapping[Key, Arrival] = field(default_factory=dict)
    words: tuple[tuple[str, ...], ...] = ()
    makers: Mapping[Key, Key] = field(default_factory=dict)
    bare: Mapping[Key, frozenset[Key]] = field(default_factory=dict)
    stuck: tuple[tuple[Key, Key], ...] = ()
    converted: tuple[Converted, ...] = ()
    of_others: Mapping[Key, str] = field(default_factory=dict)
    ids: str = "auto"
    id_taken: tuple[Key, ...] = ()
    same: tuple[Key, ...] = ()
    pause_after: Mapping[Key, str] = field(default_factory=dict)
    omissions: Mapping[Key, bool] = field(default_factory=dict)
    idle_rows: tuple[Key, ...] = ()
    """Tables whose rows the package holds, and nobody asked for."""
    run: str = ""
    """The run that goes on with it, where it is not an import of its own."""
    stranded: tuple[tuple[Key, Key], ...] = ()
    """Items beside the package, each with what it names by a title that would be another one."""
    severed: tuple[tuple[Key, Key, str], ...] = ()
    """Items beside the package, each with an item and the part of it that it uses, and that would be gone."""
    is_guarded: bool = True
    """Whether the target itself refuses to write over what somebody changes in the very moment."""

    @property
    def resting(self) -> list[Key]:
        """What is switched off while it is changed, and on again after."""
        return resting_in(self.steps)

    @property
    def steps(self) -> tuple[Step, ...]:
        """All steps, in order."""
        return tuple(step for leg in self.legs for step in leg.steps)

    @cached_property
    def held(self) -> frozenset[Key]:
        """The items that stay switched off until the last leg."""
        # Half of an application that is on would do half of the work, and the wrong half.
        return frozenset(key for leg in self.pauses for key in leg.keys)

    def at_first(self, states: States, action: Action) -> States:
        """An item's states as they are after this leg: what is held stays off, or as it was there."""
        if not self.pauses or action.key not in self.held or states.is_on is None:
            return states
        # As it was there, and not off in any case: what ran before the import goes on running through a pause.
        return replace(states, is_on=bool(action.present and action.present.states.is_on))

    @property
    def pauses(self) -> tuple[Leg, ...]:
        """The legs after which the import pauses."""
        # After the last one nothing is left to wait for.
        return self.legs[:-1]

    def fated(self, fate: Parting) -> list[Retirement]:
        """The items that the package no longer holds to which this happens."""
        return [one for one in self.retirements if one.fate is fate]

    @property
    def title(self) -> str:
        return f"{self.package} {self.version}"

    @property
    def sources(self) -> tuple[str, ...]:
        """The sources whose package of this name is meant: one, but where a withdrawal is of all of them."""
        # Two sources may have packages of one name: a claim belongs to a package of one source.
        return (self.source_uid, *self.other_sources)

    @property
    def name(self) -> str:
        """The package as it is named on the command line: another one of that name may lie in the workspace."""
        return self.source_file or f"{self.package}-{self.version}"

    @property
    def named_there(self) -> dict[Key, Json]:
        """What each need is called in the target, where that is known and no secret."""
        found = {one.need.key: one.native for one in self.mapped if one.need.kind != "secret"}
        return {key: native for key, native in found.items() if native is not None}

    @property
    def usual_file(self) -> str:
        """Where a docket is written that nobody gave a name."""
        return self.file or f"{self.package}-{self.version}.{self.target}.docket.yaml"

    @property
    def loading(self) -> dict[Key, int]:
        """How many rows would go into which tables."""
        return {step.key: step.count or 0 for step in self.steps if isinstance(step, LoadRows)}

    def by(self, do: Do) -> list[Action]:
        """The actions that do this."""
        return [action for action in self.actions if action.do is do]

    @property
    def undecided(self) -> list[Action]:
        """The actions with an open question in them."""
        return [action for action in self.actions if action.comparison and action.comparison.open]

    @property
    def edited(self) -> list[Action]:
        """The actions on items that the target changed by itself."""
        return [action for action in self.actions if action.comparison and action.comparison.local_edits]

    @property
    def kept(self) -> list[Action]:
        """Those of them of which something stays as somebody made it."""
        return [action for action, edits in self._edits() if not all(map(is_given_up, edits))]

    @property
    def given_up(self) -> list[Action]:
        """Those of which something is overwritten, as somebody decided."""
        return [action for action, edits in self._edits() if any(map(is_given_up, edits))]

    def _edits(self) -> list[tuple[Action, list[FieldChange]]]:
        return [(action, action.comparison.local_edits) for action in self.edited if action.comparison]

    @property
    def is_decided(self) -> bool:
        """Whether somebody has chosen anything in it."""
        return any(action.is_decided for action in self.actions)

    @property
    def hands_over(self) -> bool:
        """Whether what the package brought before is in other hands afterwards."""
        return self.custody_was not in (None, self.custody)

    @property
    def errors(self) -> list[Finding]:
        """What `check` found that counts as an error."""
        return [finding for finding in self.findings if finding.level is Level.ERROR]

    @property
    def is_idle(self) -> bool:
        """Whether nothing would change in the target."""
        # Retirements count as well, and rows: a package that only dropped something still changes the target, and so
        # does one that fills an empty table.
        is_left = all(action.do is Do.LEAVE for action in self.actions)
        return is_left and not self.loading and all(one.fate is Parting.STAY for one in self.retirements)

    @property
    def is_settled(self) -> bool:
        """Whether there is nothing to do and nothing to decide."""
        return self.is_idle and not self.undecided


def fingerprint(package_digest: str, target_uid: str, rows: Iterable[Listed], bindings: Mapping[Key, Json]) -> str:
    """A digest over everything that has to be as it was when the docket was made: the items touched, those
    that they use, what is to be retired with its users, and whatever stands in a place that has to be free."""
    # Of the target only what the docket looks at: somebody working on other items must not make every docket out of
    # date.
    seen = sorted([row.native_id, row.revision, row.has_draft] for row in rows)
    # With the bindings: a docket that somebody agreed to must not be carried out with another crosswalk.
    return digest([package_digest, target_uid, seen, sorted(([k, v] for k, v in bindings.items()), key=str)])


def order_of(items: Sequence[Item]) -> tuple[tuple[Key, ...], ...]:
    """Groups of item keys, used before user."""
    return tuple(tuple(group) for group in in_order({item.key: item.uses() for item in items}))
