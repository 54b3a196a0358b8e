"""The Environment protocol: what Amphora asks of a place where items live."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import field
from functools import cache
from inspect import isfunction
from typing import Final, Literal, Protocol, TypeVar, cast, runtime_checkable

from amphora.core.form.bindings import IdStyle
from amphora.core.form.kinds import Ids, KindSheet
from amphora.core.plan.states import Habits, Image
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Found, Json, Limits, Listed, States, Supply
from amphora.core.values.next_step import NextStep, advice
from amphora.core.values.raw import Raw
from amphora.core.values.rights import Lacks

Take = Literal["live", "draft"]


@dataclass(frozen=True)
class Capabilities:
    """What an environment can do.

    `is_atomic`: one call writes many items, all or none. `keeps_ids`: created items have the ids that
    `reserve` gave (`ChoosesIds`); else each gets a new one. `has_drafts`: some kinds go live only by `publish`.
    `takes_back`: a live version can be taken back (both `Publishes`). `writes_states`: a write sets on/off too, no
    `switch` is needed. `has_rows`: tables hold rows (`HoldsRows`). `has_unique_names`: one item a kind, folder
    and name. `is_guarded`: a write over somebody's change is refused by the environment itself; else it is looked at
    just before, and the moment between is nobody's. `fills_in`: what is there after a write may be more than what was
    written, or tidied. `loads_in_pieces`: rows come in many calls, of which one may fail when others have been taken.
    """

    is_atomic: bool
    keeps_ids: bool
    has_drafts: bool
    writes_states: bool
    has_rows: bool = False
    takes_back: bool = True
    has_unique_names: bool = False
    is_guarded: bool = True
    fills_in: bool = False
    loads_in_pieces: bool = False


@dataclass(frozen=True)
class Probe:
    """What a look through a connection showed. `is_working` is None where nobody can tell without using it;
    `missing` are those of the objects asked for (tables, folders, topics) that aren't on its other end."""

    is_working: bool | None = None
    missing: tuple[str, ...] = ()
    reason: str = ""


@dataclass(frozen=True)
class Description:
    """An environment in its own words. `uid` never changes; `features` is None where it can't tell; `tried` are the
    releases that its adapter was tried with, where it says so; `rests` is what it refuses of which kind while an item
    is on: ("write", kind) or ("retire", kind); `apart` the members of those kinds whose items are made by several
    calls: those that are written after the first, which may leave it switched on."""

    uid: str
    release: str
    region: str
    base_url: str
    capabilities: Capabilities
    id_style: IdStyle
    sheets: Mapping[str, KindSheet]
    features: frozenset[str] | None = None
    limits: Limits = field(default_factory=Limits)
    tried: tuple[str, ...] = ()
    rests: frozenset[tuple[str, str]] = frozenset()
    apart: Mapping[str, Sequence[str]] = field(default_factory=dict)
    unlisted: Mapping[str, Ids] = field(default_factory=dict)
    """The kinds of supplies of which there may be others than those that are listed, each with how its ids look."""


@dataclass(frozen=True)
class Identity:
    """Who is signed in, and what of read, write, publish, switch, retire, grant that account may do; `role` is empty
    where the environment doesn't tell one, `roles`
    are the roles that the environment knows, with what each may do; `lacks` what the account may not do with some
    kinds although it may with others: (permission, kind)."""

    account: str
    role: str
    permissions: frozenset[str]
    roles: Mapping[str, frozenset[str]] = field(default_factory=dict)
    lacks: Lacks = frozenset()

    def __str__(self) -> str:
        return f"{self.account} ({self.role})" if self.role else self.account


@dataclass(frozen=True)
class Wanted:
    """An item that is about to be written: the id it had at its source (or has here already), and the
    portable ids of its parts with those mapped so far. `is_anew` asks for other ids even where those are free."""

    key: Key
    kind: str
    native_id: str
    is_new: bool
    parts: tuple[str, ...] = ()
    inner: Mapping[str, str] = field(default_factory=dict)
    is_anew: bool = False


@dataclass(frozen=True)
class Reserved:
    """The ids under which a wanted item can be written; `inner` maps the parts that need another id."""

    native_id: str
    inner: Mapping[str, str]


@dataclass(frozen=True)
class Write:
    """One item to write. `native_id` is None for an item whose id the environment gives; `revision` is
    the one seen, None for a creation, which must find the item absent. A masked secret in the definition
    means: keep. `token` makes a repeated creation harmless."""

    kind: str
    segments: tuple[str, ...]
    states: States
    definition: Json
    token: str
    native_id: str | None = None
    revision: str | None = None

    @property
    def is_new(self) -> bool:
        return self.revision is None


@dataclass(frozen=True)
class Written:
    """What became of one write."""

    native_id: str
    revision: str
    link: str


@dataclass(frozen=True)
class Seen:
    """An item as somebody saw it: a change of it is refused if its revision is another one by now."""

    native_id: str
    revision: str


class NotNew(EnvironmentRefused):
    """A creation was answered with what was there before, which is perhaps written over."""


# Few methods and coarse ones: an adapter is written once for each platform, by people who know that platform and not
# us.
class Environment(Protocol):
    """One open environment, signed in. Every method raises only AmphoraErrors: EnvironmentRefused,
    RevisionMoved, Unavailable (nothing happened), Uncertain (nobody knows). What not every environment
    can do stands in Protocols of its own, below."""

    def describe(self) -> Description:
        """Identity, release, capabilities and kind sheets."""

    def whoami(self) -> Identity:
        """The signed-in account."""

    def index(self) -> list[Listed]:
        """All items, in one cheap sweep, ordered by native id."""

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        """Definitions with secrets masked, in the order asked; a draft only where there is one."""

    # Apart from `read`: putting back needs live version and draft of one moment, and what is gone is an answer here.
    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        """The whole state of those of these items that are there, read together; secrets masked."""

    def supplies(self) -> list[Supply]:
        """Connections and people on offer."""

    # Many at once even where one call takes one item: only the adapter knows which of the two its platform does.
    def write(self, writes: Sequence[Write]) -> list[Written]:
        """Creates and updates, in order; many at a time only where `is_atomic`."""

    def retire(self, items: Sequence[Seen]) -> None:
        """Removes items with their rows, all or none; refused where one was changed since it was seen, or is
        used by an item outside the set."""

    def close(self) -> None:
        """Ends the connection."""


@runtime_checkable
class Publishes(Protocol):
    """Drafts beside live versions."""

    def publish(self, item: Seen) -> None:
        """Makes the draft live."""

    def take_back(self, item: Seen) -> None:
        """Takes the live version back: it becomes the draft where there is none. Only where `takes_back`."""


@runtime_checkable
class Switches(Protocol):
    """Items that are on or off, apart from their definition."""

    def switch(self, item: Seen, is_on: bool) -> None:
        """Switches an item on or off."""


@runtime_checkable
class HoldsRows(Protocol):
    """Tables with rows."""

    def records(self, native_id: str) -> Iterator[Json]:
        """The rows of a table, one by one."""

    def load(self, native_id: str, rows: Iterator[Json], comes_back: bool = False) -> int:
        """Fills an empty table, with all rows or none; how many there were. Rows that come back were here before:
        what they name of other tables' rows is called so here."""


@runtime_checkable
class KeepsFiles(Protocol):
    """Attachments kept beside definitions, in which `amphora:file:SHA256#TYPE` stands instead of a large one: they go
    through in pieces, whatever their size. What no item names any more may vanish."""

    def held_files(self, names: Sequence[str]) -> dict[str, int]:
        """Those of these attachments (by SHA-256) that are there, with their sizes in bytes."""

    def file(self, name: str) -> Iterator[bytes]:
        """An attachment in pieces; EnvironmentRefused where it isn't there."""

    def keep_file(self, name: str, content: Raw) -> None:
        """Takes an attachment; once more does no harm. EnvironmentRefused where its name is not its SHA-256."""


@runtime_checkable
class Probes(Protocol):
    """A look through connections."""

    def probe(self, connection: str, objects: Sequence[str]) -> Probe:
        """Whether a connection (by native id) works, and whether these objects are on its other end.
        Changes nothing."""


@runtime_checkable
class ChoosesIds(Protocol):
    """Ids of our choice."""

    def reserve(self, wanted: Sequence[Wanted]) -> list[Reserved]:
        """Free ids for items and parts."""


@runtime_checkable
# The two that follow answer one question from two sides: after a lost answer, which of these is ours?
class RemembersTokens(Protocol):
    """Creations that can be asked after."""

    def answered(self, token: str) -> Written | None:
        """What a creation with this token made, if it took effect and is still there."""


@runtime_checkable
class TellsMakers(Protocol):
    """Items that remember the creation that made them."""

    def makers(self, native_ids: Sequence[str]) -> dict[str, str]:
        """The tokens of the creations that made those of these items that came by one."""


@runtime_checkable
class TakesAlong(Protocol):
    """Removals that take other items along, whatever anybody says."""

    def along(self, native_ids: Sequence[str]) -> dict[str, str]:
        """What would go if these went: the ids of the others, each with the one that it would go with."""


@runtime_checkable
class SideBySide(Protocol):
    """Changes to several items at once, one call each."""

    def at_once(self) -> int:
        """How many calls may be under way just now: fewer where it has said that it is busy."""


@runtime_checkable
class ByDescription(Protocol):
    """Known by a description that somebody wrote, who may have slipped."""

    def slips(self, native_ids: Sequence[str]) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
        """By kind, of what these items show: the places of the description at which nothing ever stands, and what the
        description doesn't name."""

    def own_calls(self, kind: str) -> frozenset[str]:
        """The members of a definition of this kind that are written by calls of their own."""

    def unsent(self, kind: str) -> frozenset[str]:
        """The members that are read and never written: what only follows from others."""

    def names_gone(self, kind: str) -> bool:
        """Whether the description says how members of this kind are taken away."""

    def goes_along(self, kind: str, definition: Json) -> bool:
        """Whether an item of this definition is one that the platform makes by itself, and removes only with what
        holds it."""

    def is_guarded(self, kind: str) -> bool:
        """Whether the description says that the platform compares what is written to this kind with what was
        seen."""


@runtime_checkable
class RemovesInTwo(Protocol):
    """Removes by more than one call: what is put away keeps its name until it is removed for good."""

    def finish_removal(self, kind: str, native_id: str) -> bool:
        """Removes for good what is put away under an id; whether there was anything."""


@runtime_checkable
class FinishesCreations(Protocol):
    """Makes new items by more than one call: what the platform puts into them by itself is taken away again."""

    def finish_creation(self, native_id: str, is_answered: bool) -> None:
        """Learns that an item was made by the run that goes on, and does what its creation may have left undone, if
        that was cut off before it was answered."""


@runtime_checkable
class Overtaken(Protocol):
    """Looks just before each change, and can let something happen between that look and the call: so a proof sees
    whether the platform itself refuses to write over somebody's change."""

    def overtaken(self, item: Write, between: Callable[[], object]) -> Written:
        """A change of one item, with something done by somebody else in the middle of it."""


Ability = TypeVar("Ability")


@cache
def _methods(ability: type) -> tuple[str, ...]:
    # By names, as the protocols above are: adapters inherit from none of them.
    return tuple(name for name, value in vars(ability).items() if isfunction(value) and not name.startswith("_"))


def able(environment: Environment, ability: Callable[..., Ability], words: str) -> Ability:
    """The environment as one that can do this; EnvironmentRefused where it can't."""
    assert isinstance(ability, type)
    # As `isinstance` asks, which takes as long for it as a call to a quick environment: this is asked once a step.
    if not all(hasattr(environment, name) for name in _methods(ability)):
        raise EnvironmentRefused(f"It {words}.", next_step=advice("Do it there by hand."))
    return cast(Ability, environment)


NEXT: Final[Mapping[str, NextStep]] = {
    "forbidden": advice("Sign in with another account, or ask for the permission."),
    "moved": advice("Somebody is working there; run the same command again."),
    "taken": advice("Rename the other item, or say in the crosswalk under items: that it is the same."),
    "in-use": advice("Take it out of what uses it first, or name that too."),
}
"""What to do about a refusal, whichever adapter it comes from; by its code in the protocol over HTTP."""


def habits_of(description: Description) -> Habits:
    """What an environment does by itself when something is written."""
    can = description.capabilities
    # The core plans with this, and must not know that there are adapters.
    return Habits(
        can.has_drafts,
        can.writes_states,
        can.is_atomic,
        can.takes_back,
        description.sheets,
        can.fills_in,
        can.loads_in_pieces,
        description.rests,
        description.apart,
    )
