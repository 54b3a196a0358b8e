"""Conversions: a definition taken from one version of its kind's shape to the next, or back, by what a kind sheet
declares (design, section 5).

Forwards a rule may drop something, and says so. Backwards nothing may be lost: what was taken back is taken
forwards again, and whatever does not come out as it was has no place in the older shape.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import field
from typing import Any

from amphora.core.form.places import Step, parse_path
from amphora.core.values.canon import same
from amphora.core.values.digits import is_number
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.tokens import PREFIX, parse_token

Path = tuple[Step, ...]
"""A path of names, with None for every element."""

NO_PLACE = "it has no place in the older shape"

FIELDS = {
    "from": int,
    "to": int,
    "rename_kind": str,
    "each": str,
    "move": dict,
    "split": dict,
    "set": dict,
    "drop": list,
}
"""What a [[conversion]] may say, and of which type."""


@dataclass(frozen=True)
class Split:
    """A text that becomes several, cut at a separator."""

    path: Path
    separator: str
    into: tuple[Path, ...]


@dataclass(frozen=True)
class Conversion:
    """One step of a kind from version `since` to version `to`. `renames` is what the kind was called before, where
    that was something else. The rules are applied in this order, and backwards in the opposite one."""

    since: int
    to: int
    renames: str = ""
    moves: tuple[tuple[Path, Path], ...] = ()
    splits: tuple[Split, ...] = ()
    sets: tuple[tuple[Path, Json], ...] = ()
    drops: tuple[Path, ...] = ()


@dataclass
class Traces:
    """What a conversion did to one definition: how many fields it moved, split or filled, and what it `dropped`,
    with the value. `unfit` are the places at which it could not, with the reason."""

    moved: int = 0
    split: int = 0
    filled: int = 0
    dropped: list[tuple[str, Json]] = field(default_factory=list)
    unfit: list[tuple[str, str]] = field(default_factory=list)


def forwards(form: Json, rule: Conversion) -> tuple[Json, Traces]:
    """The definition in the newer shape."""
    # Copied: the definition as it was is compared with what comes of it.
    form, traces = copy.deepcopy(form), Traces()
    # In this order, and backwards in the other: a split may cut what a move has brought.
    for source, goal in rule.moves:
        traces.moved += _move(form, source, goal, traces)
    for split in rule.splits:
        traces.split += _split(form, split, traces)
    for path, value in rule.sets:
        traces.filled += _fill(form, path, value)
    for path in rule.drops:
        # With the value: what is left behind is told, and may be looked at.
        traces.dropped += [(write_pointer(at), _take(form, at)) for at in list(_found(form, path))]
    return form, traces


def backwards(form: Json, rule: Conversion) -> tuple[Json, Traces]:
    """The definition in the older shape; what that can't hold is `unfit`."""
    older, traces = copy.deepcopy(form), Traces()
    # Backwards in everything, the order of the kinds of rules included.
    for path, value in reversed(rule.sets):
        for at in list(_found(older, path)):
            # Only the very value that was filled in: another one is somebody's, and has no place in the older shape.
            if same(_at(older, at), value):
                _take(older, at)
                traces.filled += 1
    for split in reversed(rule.splits):
        traces.split += _join(older, split)
    for source, goal in reversed(rule.moves):
        traces.moved += _move(older, goal, source, traces)
    # What only the newer shape knows and still stands there would be written into an older one as it is.
    newer = [path for path, _ in rule.sets] + [
        path for split in rule.splits for path in split.into if path != split.path
    ]
    unknown = {write_pointer(at) for path in newer for at in _found(older, path)}
    found = dict(traces.unfit) | dict.fromkeys(sorted(unknown), NO_PLACE)
    # Of everything else, without thinking about rules: taken forwards again it has to be what it was.
    again, _ = forwards(older, rule)
    found = dict(_lost(form, again, ())) | found
    traces.unfit = sorted(found.items())
    return older, traces


def layout_forwards(layout: Json, rule: Conversion) -> Json:
    """The layout that belongs to a definition, likewise: what is no longer there has no position either."""
    layout = copy.deepcopy(layout)
    for source, goal in rule.moves:
        _move(layout, source, goal, Traces())
    for path in rule.drops:
        for at in list(_found(layout, path)):
            _take(layout, at)
    return layout


def layout_backwards(layout: Json, rule: Conversion) -> Json:
    """The layout in the older shape."""
    layout = copy.deepcopy(layout)
    for source, goal in reversed(rule.moves):
        _move(layout, goal, source, Traces())
    return layout


def parse_conversion(table: Mapping[str, Any]) -> Conversion:
    """The rules that one [[conversion]] of a sheet holds; SheetFault says what is wrong with it."""
    since, to = table.get("from"), table.get("to")
    # Also over several versions at once: a sheet need not tell of every release in between.
    if not isinstance(since, int) or not isinstance(to, int) or isinstance(since, bool) or to <= since:
        raise _wrong("each [[conversion]] needs `from` and a greater `to`, both whole numbers")
    before = str(table.get("each", "$"))
    moves = tuple((_path(a, before), _path(b, before)) for a, b in table.get("move", {}).items())
    splits = tuple(_parse_split(a, row, before) for a, row in table.get("split", {}).items())
    pairs = [*moves, *((split.path, goal) for split in splits for goal in split.into)]
    for source, goal in pairs:
        # Elements keep their arrays: an array moves as a whole, and then what is in it.
        if _head(source) != _head(goal):
            raise _wrong(f"{_written(source)} and {_written(goal)} don't stand in the same elements")
    return Conversion(
        since,
        to,
        str(table.get("rename_kind", "")),
        moves,
        splits,
        tuple((_path(path, before), value) for path, value in table.get("set", {}).items()),
        tuple(_path(path, before) for path in table.get("drop", [])),
    )


def _wrong(words: str) -> SheetFault:
    return SheetFault(words, next_step=advice("Mend the sheet."))


def _parse_split(path: str, row: object, before: str) -> Split:
    if not isinstance(row, Mapping) or set(row) != {"at", "into"} or not row["at"] or len(row["into"]) < 2:
        raise _wrong('`split` takes { at = "a text", into = [two or more paths] }')
    return Split(_path(path, before), str(row["at"]), tuple(_path(one, before) for one in row["into"]))


def _path(text: object, before: str) -> Path:
    """A path of a rule, which begins at each of `before`."""
    if not isinstance(text, str) or not text.startswith("$"):
        raise _wrong(f"{text!r} is no path of a definition")
    _, steps = parse_path(before + text[1:])
    # A name at the end: what a rule moves has to be one field, and no element of a list.
    if not steps or steps[-1] is None or not all(part is None or not part.isdigit() for part in steps):
        raise _wrong(f"{text!r} has to be made of names and [*], and to end in a name")
    return steps


def _head(path: Path) -> Path:
    """The path to its last element of an array."""
    wild = [number for number, part in enumerate(path) if part is None]
    return path[: wild[-1] + 1] if wild else ()


def _written(path: Path) -> str:
    return "$" + "".join("[*]" if part is None else f".{part}" for part in path)


def _move(form: Json, source: Path, goal: Path, traces: Traces) -> int:
    count = 0
    for at in list(_found(form, source)):
        to = _filled(goal, at, source)
        # Never over something: two fields in one place would leave one.
        if _is_there(form, to):
            traces.unfit.append((write_pointer(at), f"{write_pointer(to)} is taken already"))
        elif _put(form, to, _take(form, at)):
            count += 1
        else:
            traces.unfit.append((write_pointer(at), f"nothing can stand at {write_pointer(to)}"))
    return count


def _split(form: Json, split: Split, traces: Traces) -> int:
    count = 0
    for at in list(_found(form, split.path)):
        text = _at(form, at)
        # A token is one value, however it is written; a text around tokens can't be cut without cutting one.
        if not isinstance(text, str) or (PREFIX in text and parse_token(text) is None):
            traces.unfit.append((write_pointer(at), "it is no text that can be split"))
            continue
        # The rest stays in the last piece, whatever stands in it.
        pieces = [text] if parse_token(text) else text.split(split.separator, len(split.into) - 1)
        _take(form, at)
        for goal, piece in zip(split.into, pieces, strict=False):
            _put(form, _filled(goal, at, split.path), piece)
        count += 1
    return count


def _join(form: Json, split: Split) -> int:
    count = 0
    for first in list(_found(form, split.into[0])):
        places = [_filled(goal, first, split.into[0]) for goal in split.into]
        there = [at for at in places if _is_there(form, at)]
        pieces = [_at(form, at) for at in there]
        # Left where they are: the look afterwards says of which of them nothing would come.
        if there != places[: len(there)] or not all(isinstance(piece, str) for piece in pieces):
            continue
        for at in there:
            _take(form, at)
        _put(form, _filled(split.path, first, split.into[0]), split.separator.join(pieces))
        count += 1
    return count


def _fill(form: Json, path: Path, value: Json) -> int:
    count = 0
    for at in list(_holders(form, path)):
        # Filled only where nothing stands: a default is no correction.
        if not _is_there(form, at) and _put(form, at, copy.deepcopy(value)):
            count += 1
    return count


def _holders(form: Json, path: Path) -> Iterator[Pointer]:
    """Every place at which the path's last name could stand."""
    head = _head(path)
    # Without elements on the way it can stand in one place only, whether or not its holder is there yet.
    starts = _found(form, head) if head else iter(((),))
    for at in starts:
        yield (*at, *(part for part in path[len(head) :] if part is not None))


def _found(form: Json, path: Path, at: Pointer = ()) -> Iterator[Pointer]:
    """Every place that a path leads to."""
    if not path:
        yield at
    elif isinstance(form, dict):
        for name in list(form) if path[0] is None else [path[0]] if path[0] in form else []:
            yield from _found(form[name], path[1:], (*at, name))
    elif isinstance(form, list) and path[0] is None:
        for number, part in enumerate(form):
            yield from _found(part, path[1:], (*at, str(number)))


def _filled(goal: Path, at: Pointer, source: Path) -> Pointer:
    """The place that a path means in the same elements as one that was found."""
    elements = iter([there for there, part in zip(at, source, strict=True) if part is None])
    return tuple(next(elements) if part is None else part for part in goal)


def _at(form: Json, at: Pointer) -> Json:
    for name in at:
        form = form[int(name)] if isinstance(form, list) else form[name]
    return form


def _is_there(form: Json, at: Pointer) -> bool:
    for name in at:
        if isinstance(form, list) and is_number(name) and int(name) < len(form):
            form = form[int(name)]
        elif isinstance(form, dict) and name in form:
            form = form[name]
        else:
            return False
    return True


def _take(form: Json, at: Pointer) -> Json:
    """Takes a value out, with the objects that hold nothing any more: an empty one would be a field that nobody
    has written."""
    value = _at(form, at[:-1]).pop(at[-1])
    for end in range(len(at) - 1, 0, -1):
        holder = _at(form, at[: end - 1])
        if _at(form, at[:end]) != {} or not isinstance(holder, dict):
            break
        del holder[at[end - 1]]
    return value


def _put(form: Json, at: Pointer, value: Json) -> bool:
    """Puts a value in, with the objects that have to hold it; whether that could be done."""
    for name in at[:-1]:
        if isinstance(form, list):
            form = form[int(name)]
        elif isinstance(form, dict):
            form = form.setdefault(name, {})
        else:
            return False
    # A list has no place for a name.
    if not isinstance(form, dict):
        return False
    form[at[-1]] = value
    return True


def _lost(wanted: Json, found: Json, at: Pointer) -> Iterable[tuple[str, str]]:
    """The places at which something did not come out as it was."""
    if same(wanted, found):
        return
    if isinstance(wanted, dict) and isinstance(found, dict):
        for name in wanted.keys() | found.keys():
            if name in wanted and name in found:
                yield from _lost(wanted[name], found[name], (*at, name))
            else:
                words = NO_PLACE if name in wanted else "the older shape can't lack it"
                yield write_pointer((*at, name)), words
    elif isinstance(wanted, list) and isinstance(found, list) and len(wanted) == len(found):
        for number, (mine, other) in enumerate(zip(wanted, found, strict=True)):
            yield from _lost(mine, other, (*at, str(number)))
    else:
        yield write_pointer(at), "the older shape can't hold this value"
