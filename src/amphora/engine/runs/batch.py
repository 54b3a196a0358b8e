"""Steps that are ready to be done, and which of them can be done side by side."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from contextvars import copy_context
from typing import Final, Generic, TypeVar

from amphora.core.plan.states import Habits, Image
from amphora.core.plan.steps import (
    Complete,
    Create,
    CreateBare,
    Drawn,
    EnterSecret,
    Grant,
    Publish,
    Step,
    Switch,
    Update,
)
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.steps import Material
from amphora.environments.contract import Environment, RemembersTokens, SideBySide

Value = TypeVar("Value")

ON_ONE_ITEM: Final = frozenset({Create, CreateBare, Update, Complete, Grant, EnterSecret, Publish, Switch})
"""Kinds of steps that disturb nothing but their item. Moves are not among them: one frees the place of another."""


AHEAD: Final = 4
"""How many steps are journalled as begun in one write, where the environment remembers what became of each. A killed
process leaves as many that have to be looked for, of which the last ones were not begun."""


@dataclass(frozen=True)
class Pace:
    """How many steps an environment takes at once, to be asked again and again, for it may become busy; and how many
    are journalled as begun at once."""

    width: Callable[[], int]
    ahead: int


def pace_of(environment: Environment, habits: Habits) -> Pace:
    """An environment that takes what is written to the letter and remembers by token what it made has kept all that
    the journal says of a step: what a killed process leaves unsaid it can be asked."""
    # Asked once: to tell whether an object keeps a protocol takes longer than to look at an item.
    width = environment.at_once if isinstance(environment, SideBySide) else lambda: 1
    is_kept = isinstance(environment, RemembersTokens) and not habits.fills_in
    return Pace(width, AHEAD if is_kept else 1)


@dataclass(frozen=True)
class Ready:
    """A step with all that can be known before it is begun: what it writes, and its intent."""

    number: int
    step: Step
    drawn: Mapping[Key, Drawn]
    before: Mapping[Key, str]
    meant: Mapping[Key, str]
    leaves: Mapping[Key, Image | None]
    """The states whose marks are `meant`."""
    intent: Json

    @property
    def token(self) -> str:
        """What the environment recognises the step by."""
        return str(self.intent["token"])


@dataclass(frozen=True)
class Made:
    """A step that was done: the ids of its items, what is journalled of it, and whether what it meant counts as what
    it left until somebody looks."""

    ready: Ready
    ids: Mapping[Key, str]
    outcome: dict[str, Json]
    is_to_the_letter: bool


def side_by_side(portion: Sequence[Ready], material: Material, now: Mapping[Key, Image | None], width: int) -> int:
    """How many of these steps, from the first, can be under way at once, `width` at most: steps of one kind, on
    different items of which none uses another, and of which none changes its place."""
    # One kind at a time: kinds come in an order that matters, what is published has to be there.
    kind = type(portion[0].step)
    if width < 2 or kind not in ON_ONE_ITEM:
        return 1
    keys, used = set[Key](), set[Key]()
    for count, ready in enumerate(portion[:width]):
        if type(ready.step) is not kind or _moves(ready, now):
            return max(count, 1)
        key = ready.step.key
        uses = material.uses(key)
        # In either direction: what an environment asks of a definition it asks when that is written.
        if key in keys or key in used or not keys.isdisjoint(uses):
            return count
        keys.add(key)
        used |= uses
    return len(portion[:width])


def _moves(ready: Ready, now: Mapping[Key, Image | None]) -> bool:
    """Whether a step takes an item from its place, which the next one may want."""
    key = ready.step.key
    image, left = now.get(key), ready.leaves[key]
    if image is None or left is None:
        return False
    drawn = ready.drawn.get(key)
    is_elsewhere = drawn is not None and drawn.segments[-1:] != image.segments[-1:]
    return is_elsewhere or (image.states.title, image.states.folder) != (left.states.title, left.states.folder)


class _Line(threading.Thread, Generic[Value]):
    """One call beside others."""

    def __init__(self, call: Callable[[], Value]) -> None:
        # A daemon: whoever interrupts twice does not wait for an answer that may never come.
        super().__init__(daemon=True)
        self._call, self._context = call, copy_context()
        self._answer: list[Value] = []
        self._error: BaseException | None = None

    def run(self) -> None:
        try:
            self._answer.append(self._context.run(self._call))
        # Of any kind: what a thread raises is lost, and whoever waits has to hear of it.
        except BaseException as error:
            self._error = error

    def told(self) -> Value:
        """What the call answered or raised; KeyboardInterrupt where it is still under way."""
        if self._error:
            raise self._error
        if not self._answer:
            raise KeyboardInterrupt
        return self._answer[0]


def answers(calls: Sequence[Callable[[], Value]]) -> list[Callable[[], Value]]:
    """The same calls made, side by side where there are several: each gives what it answered or raises. Returns when
    all have answered, or at the first interrupt."""
    # In this thread, so that an interrupt reaches it: it isn't made before it is asked for.
    if len(calls) == 1:
        return list(calls)
    lines = [_Line(call) for call in calls]
    for line in lines:
        line.start()
    try:
        for line in lines:
            line.join()
    except KeyboardInterrupt:
        # What has answered has; of the others nobody knows, and they are asked about.
        pass
    return [line.told for line in lines]
