"""Steps: the kinds of calls that change a target. What a kind is stands here, once: the permission it
takes, what it touches, the state it will leave, whether that can be put back, its words. How it is
done stands in `engine/steps`, one module a kind.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import ClassVar, Final, Literal

from amphora.core.form.kinds import KindSheet
from amphora.core.plan.states import Habits, Image
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, States

WRITE: Final = "write"
GRANT: Final = "grant"
Version = Literal["form", "live", "draft"]
"""Which definition a step writes: the one that the docket decided on, or one of an image's two."""


@dataclass(frozen=True)
class Drawn:
    """What a step is about to write for one item: rendered, secrets that are to be kept masked."""

    kind: str
    segments: tuple[str, ...]
    states: States
    definition: Json
    masked: Json
    """The definition as it may be kept: every secret masked."""


State = Image | None
Drafts = Mapping[Key, Drawn]


@dataclass(frozen=True)
class Step:
    """One call to an environment. `keys` are the items that it changes."""

    keys: tuple[Key, ...]
    do: ClassVar[str] = ""
    permission: ClassVar[str] = WRITE
    stands_alone: ClassVar[bool] = False
    """Whether its intent is journalled by itself, right before the call: what it does can't be told from the state of
    one item, so nobody must have to ask whether its turn had come."""

    def permission_on(self, key: Key, sheets: Mapping[str, KindSheet]) -> str:
        """What it takes to do it to one of its items: writing what gives access is granting, in whichever call."""
        sheet = sheets.get(kind_of(key))
        return GRANT if self.permission == WRITE and sheet and sheet.is_access else self.permission

    @property
    def key(self) -> Key:
        """The one item of a step that changes one."""
        # Taken apart and not indexed: a step on several items that is asked for its one item is a mistake of ours.
        [key] = self.keys
        return key

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        """The state in which the step leaves one of its items, if it takes effect."""
        # No default: a kind that forgot to say what it leaves could never be told from one that took no effect.
        raise NotImplementedError

    def is_reversible(self, now: State, habits: Habits) -> bool:
        """Whether what it does to an item in this state can be put back."""
        return True


def _written(now: State, drawn: Drawn, habits: Habits) -> Image:
    """The state after a definition was written over `now`, or where nothing was."""
    # What a platform does by itself is foreseen here and nowhere else: preview, marks and putting back agree on it.
    sheet = habits.sheets[drawn.kind]
    is_new = now is None
    was = now or Image("", drawn.kind, drawn.segments, drawn.states)
    is_on = drawn.states.is_on if habits.writes_states else was.states.is_on
    if is_new and not habits.writes_states:
        # Made switched off, whatever the package wants: on is a step of its own, when all that the item uses is
        # there.
        is_on = False if sheet.is_switched else None
    is_published = was.states.is_published
    if is_new:
        # None and False are two things: a kind without drafts is neither published nor unpublished.
        is_published = False if sheet.is_published else None
    states = States(drawn.states.title, drawn.states.folder, is_on, is_published)
    # The live version stays what it was: people go on using it until somebody publishes.
    if habits.drafts(drawn.kind):
        return replace(was, states=states, draft=drawn.masked, live=None if is_new else was.live)
    return replace(was, states=states, live=drawn.masked, draft=None)


@dataclass(frozen=True)
class Create(Step):
    """Makes an item. With `later`, bare: without its references to items that are not there yet."""

    later: tuple[Key, ...] = ()
    version: Version = "form"
    do: ClassVar[str] = "create"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert drawn is not None
        # Over nothing, even if something is remembered: what was there before had another id.
        return _written(None, drawn, habits)


class CreateBare(Create):
    """Makes an item without its references to `later`, so that a circle of items can be entered."""

    do: ClassVar[str] = "create bare"


@dataclass(frozen=True)
class Update(Step):
    """Writes definition, title and folder of an item that is there."""

    version: Version = "form"
    do: ClassVar[str] = "update"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert drawn is not None
        return _written(now, drawn, habits)


class Complete(Update):
    """Gives an item that was made bare its references."""

    do: ClassVar[str] = "complete"


class Grant(Create):
    """Writes an item that gives people access to others, made anew or over what is there. A kind of its own because
    of when it is done: people are let in when all that they will find has been published and switched on."""

    do: ClassVar[str] = "grant"
    permission: ClassVar[str] = GRANT

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert drawn is not None
        return _written(now, drawn, habits)


class EnterSecret(Update):
    """Writes what is there, with secrets that it lacked."""

    do: ClassVar[str] = "enter secret"


@dataclass(frozen=True)
class Move(Step):
    """Puts an item into another folder and nothing else, to free its place for another one."""

    folder: str = ""
    do: ClassVar[str] = "move"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert drawn is not None
        return _written(now, drawn, habits)


@dataclass(frozen=True)
class WriteAll(Step):
    """Creates and updates many items in one call, all of them or none."""

    version: Version = "form"
    do: ClassVar[str] = "write all"
    stands_alone: ClassVar[bool] = True

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert drawn is not None
        return _written(now, drawn, habits)


class Publish(Step):
    """Makes a draft the live version."""

    do: ClassVar[str] = "publish"
    permission: ClassVar[str] = "publish"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert now is not None
        # The newest, for where nothing is unpublished publishing again changes nothing.
        return replace(now, live=now.newest, draft=None, states=replace(now.states, is_published=True))

    def is_reversible(self, now: State, habits: Habits) -> bool:
        """A first publication stays where a platform can't take a live version back; an item that the run
        itself created goes as a whole."""
        # That an item which was live before stays live is no loss: it gets its former version back.
        return habits.takes_back or now is None or bool(now.states.is_published)


class TakeBack(Step):
    """Takes the live version back: it becomes the draft, where there is none."""

    do: ClassVar[str] = "take back"
    permission: ClassVar[str] = "publish"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert now is not None
        states = replace(now.states, is_published=False)
        if not habits.drafts(now.kind):
            return replace(now, states=states)
        return replace(now, live=None, draft=now.newest, states=states)


@dataclass(frozen=True)
class Switch(Step):
    """Switches an item on or off."""

    is_on: bool = True
    do: ClassVar[str] = "switch"
    permission: ClassVar[str] = "switch"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert now is not None
        return replace(now, states=replace(now.states, is_on=self.is_on))


@dataclass(frozen=True)
class LoadRows(Step):
    """Fills an empty table. `count` is how many rows there are, where that is known beforehand."""

    count: int | None = None
    do: ClassVar[str] = "load rows"
    stands_alone: ClassVar[bool] = True

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        assert now is not None
        # A number and no digest: rows are too many to keep, and who fills an empty table knows how many it takes.
        return replace(now, rows=self.count)


class RetireSet(Step):
    """Removes items, as a set: only users outside of it are a reason to refuse."""

    do: ClassVar[str] = "retire"
    stands_alone: ClassVar[bool] = True
    permission: ClassVar[str] = "retire"

    def meant(self, key: Key, now: State, drawn: Drawn | None, habits: Habits) -> State:
        return None


KINDS: tuple[type[Step], ...] = (
    Create,
    CreateBare,
    Complete,
    Update,
    Grant,
    EnterSecret,
    Move,
    WriteAll,
    Publish,
    TakeBack,
    Switch,
    LoadRows,
    RetireSet,
)
"""Every kind of step. Adding one: a class here, a module in `engine/steps`, the adapters that can do it."""


def permissions_of(steps: Iterable[Step], sheets: Mapping[str, KindSheet]) -> dict[str, list[Key]]:
    """What the account has to be allowed, with the items that it is needed for."""
    found: dict[str, list[Key]] = {}
    for step in steps:
        # By the step and not by the item: one update may take write, publish and switch.
        for key in step.keys:
            found.setdefault(step.permission_on(key, sheets), []).append(key)
    return {name: list(dict.fromkeys(keys)) for name, keys in found.items()}
