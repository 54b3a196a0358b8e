"""What differs, beside each other: items of a docket, definitions and texts line by line."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from amphora.core.merge.lines import line_hunks
from amphora.core.merge.merge import By, FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.plan.actions import Do
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json
from amphora.core.values.strict_json import pretty_bytes
from amphora.render.changes import text_in_words
from amphora.render.result import Block, Cell, Grid, Row

CONTEXT = 2
"""Unchanged lines that are shown around a change."""
ONLY = ("changed", "clash", "edited")


@dataclass(frozen=True)
class Differing:
    """One item that differs: its key, title, what is done, and the changes."""

    key: Key
    title: str
    do: str
    reason: str
    changes: Sequence[FieldChange]


def differing(docket: Docket, only: str = "") -> list[Differing]:
    """The items of a docket in which something is done or differs; `only` narrows them down."""
    found = []
    for action in docket.actions:
        changes = action.comparison.changes if action.comparison else ()
        if only == "clash":
            changes = tuple(c for c in changes if c.by in (By.CLASH, By.UNKNOWN))
        elif only == "edited":
            changes = tuple(c for c in changes if c.by in (By.TARGET, By.CLASH, By.LINES))
        if changes or (action.do is not Do.LEAVE and only in ("", "changed")):
            found.append(Differing(action.key, action.states.title, action.do.value, action.reason, changes))
    return found


def line_rows(left: str, right: str) -> list[tuple[str, str, str]]:
    """Two texts beside each other, around what differs: (mark, left line, right line)."""
    old, new = left.splitlines(), right.splitlines()
    rows: list[tuple[str, str, str]] = []
    position = 0
    for hunk in line_hunks(old, new) or []:
        start = max(position, hunk.start - CONTEXT)
        if start > position:
            rows.append(("…", "", ""))
        rows += [(" ", line, line) for line in old[start : hunk.start]]
        pairs = max(hunk.end - hunk.start, len(hunk.lines))
        was = [*old[hunk.start : hunk.end], *[""] * pairs][:pairs]
        now = [*hunk.lines, *[""] * pairs][:pairs]
        rows += [("≠", a, b) for a, b in zip(was, now, strict=True)]
        position = min(hunk.end + CONTEXT, len(old))
        rows += [(" ", line, line) for line in old[hunk.end : position]]
    return rows


def side_by_side(left: Item, right: Item, names: tuple[str, str]) -> Block:
    """Two items beside each other, line by line of their definitions."""
    texts = [pretty_bytes({"states": i.states.to_json(), "definition": i.form}).decode() for i in (left, right)]
    rows: list[Row] = [
        [
            Cell(mark, "warn"),
            Cell(was, "plain" if mark == "≠" else "dim"),
            Cell(now, "plain" if mark == "≠" else "dim"),
        ]
        for mark, was, now in line_rows(*texts)
    ]
    return Grid(["", *names], rows, readable(left.key))


def text_lines(changes: Iterable[FieldChange], names: tuple[str, str], named: Mapping[Key, Json]) -> list[Block]:
    """Texts of several lines, line by line: the target's beside the package's. `named` is what needs are called in
    the environment."""
    blocks: list[Block] = []
    for change in changes:
        if is_long(change.target) and is_long(change.package):
            # Compared as they are: what only reads alike is no line of both.
            rows: list[Row] = [
                [Cell(mark, "warn"), text_in_words(was, named), text_in_words(now, named)]
                for mark, was, now in line_rows(change.target, change.package)
            ]
            blocks.append(Grid(["", *names], rows, place_phrase(change.place)))
    return blocks


def is_long(value: Json) -> bool:
    return isinstance(value, str) and "\n" in value
