"""Calls that come around a change: what takes hold of an item before it, and what lets go of it after it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext

from amphora.core.values.errors import AmphoraError
from amphora.core.values.model import Json
from amphora.environments.bridge.answer import Answer
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.parts import Call

Change = Callable[[Call, Mapping[str, Json]], Answer]


@contextmanager
def held(change: Change, call: Call, values: Mapping[str, Json], done: str) -> Iterator[dict[str, Json]]:
    """What stands for the placeholders of a call between its `first` and its `then`. Where it is refused, `else`
    comes instead of `then`, so that it is as if nothing had been asked; Uncertain where that isn't so. `done` says
    what was done when `then` is refused."""
    values, first = dict(values), call.said("first", None)
    if first:
        values["held"] = change(first, values).body
    try:
        yield values
    except AmphoraError:
        is_held = first is not None and not _is_let_go(change, call, values)
        with taken("what has to come first was done") if is_held else nullcontext():
            raise
    if then := call.said("then", None):
        with taken(done):
            change(then, values)


def _is_let_go(change: Change, call: Call, values: Mapping[str, Json]) -> bool:
    instead = call.said("else", None)
    try:
        return instead is not None and change(instead, values) is not None
    except AmphoraError:
        return False
