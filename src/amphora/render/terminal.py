"""Results on a terminal or in a pipe."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, TextIO

from amphora.core.values.visible import visible
from amphora.render.plain import cells_wide, words
from amphora.render.result import Cell, Grid, Lines, Result, Tone

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

PIPE_WIDTH = 4000
GAP = 2
"""Spaces between columns."""
LEAST_ROOM = 28
"""Less room than this is none for a sentence."""
INDENT = 4
"""Spaces before what stands below its row."""

# Tones that can be read on a light and on a dark ground.
_STYLES: dict[Tone, str] = {
    "plain": "",
    "good": "chartreuse4",
    "warn": "dark_orange3",
    "bad": "red3",
    "dim": "grey50",
    "strong": "bold",
}


def console_for(stream: TextIO) -> Console:
    """A console for a terminal, without colour under NO_COLOR. Pipes are served by `plain`."""
    from rich.console import Console

    is_terminal = stream.isatty()
    return Console(
        file=stream,
        width=None if is_terminal else PIPE_WIDTH,
        no_color=not is_terminal or bool(os.environ.get("NO_COLOR")),
        highlight=False,
        markup=False,
        emoji=False,
        soft_wrap=False,
    )


def print_result(result: Result, console: Console) -> None:
    """Verdict, blocks, next command."""
    _print_parts(result, console)


def _print_parts(result: Result, console: Console) -> None:
    console.print(_text(Cell(result.verdict, result.tone), bold=True))
    for block in result.shown:
        console.print()
        if block.title:
            console.print(_text(Cell(block.title, "strong")))
        if isinstance(block, Lines):
            for line in block.lines:
                console.print(_text(line))
        else:
            _print_grid(block, console)
    if result.next_step:
        console.print()
        console.print(_text(Cell(f"Next: {result.next_step}")))


def _print_grid(grid: Grid, console: Console) -> None:
    """Columns beside each other as far as there is room; what there is none for stands below its row, indented.
    Nothing is left out, and nothing is cut in two: half a key, or a title that is cut off, reads like another one."""
    if not grid.rows:
        return
    headings = list(grid.headings) or [""] * len(grid.rows[0])
    widths = [
        max([cells_wide(head), *(cells_wide(words(row[n])) for row in grid.rows)]) for n, head in enumerate(headings)
    ]
    beside = _beside(widths, grid, console.width)
    rest = [n for n in range(len(widths)) if n not in grid.spare]
    room = console.width - sum(widths[n] + GAP for n in rest[:-1])
    # A last column of sentences is wrapped in its place, if there is room for one.
    is_wrapped = len(rest) > 1 and beside != rest and len(beside) < len(rest) and _fits(grid, rest[-1], room)
    if is_wrapped:
        beside, widths[rest[-1]] = rest, room
    below = [n for n in range(len(widths)) if n not in beside]
    if grid.headings:
        console.print(_row([Cell(headings[n], "dim") for n in beside], beside, widths, grid), overflow="fold")
    for row in grid.rows:
        if is_wrapped:
            _print_wrapped([row[n] for n in beside], beside, widths, grid, console)
        else:
            console.print(_row([row[n] for n in beside], beside, widths, grid), overflow="fold")
        parts = [_named(headings[n], row[n]) for n in below if words(row[n]).strip()]
        if parts:
            from rich.padding import Padding

            console.print(Padding(_joined(parts), (0, 0, 0, INDENT)))


def _fits(grid: Grid, column: int, room: int) -> bool:
    """Whether a column can be wrapped into some room without breaking a word."""
    if room < LEAST_ROOM or column in grid.right:
        return False
    return all(cells_wide(word) <= room for row in grid.rows for word in words(row[column]).split())


def _print_wrapped(
    cells: Sequence[Cell | str], columns: Sequence[int], widths: Sequence[int], grid: Grid, console: Console
) -> None:
    """A row whose last cell takes as many lines as it needs."""
    *first, last = cells
    lines = _text(last).wrap(console, widths[columns[-1]]) or [_text("")]
    head = _row([*first, ""], columns, [*widths[: columns[-1]], 0], grid)
    for number, line in enumerate(lines):
        start = head.copy() if number == 0 else _text(" " * cells_wide(head.plain))
        line.rstrip()
        start.append_text(line)
        console.print(start, overflow="fold")


def _beside(widths: Sequence[int], grid: Grid, width: int) -> list[int]:
    """The columns that have room beside each other: the spare ones go first, then the last ones."""
    kept = list(range(len(widths)))
    for column in [*grid.spare, *reversed([n for n in kept if n not in grid.spare])]:
        if sum(widths[n] + GAP for n in kept) - GAP <= width or len(kept) == 1:
            break
        kept.remove(column)
    return kept


def _row(cells: Sequence[Cell | str], columns: Sequence[int], widths: Sequence[int], grid: Grid) -> Text:
    from rich.text import Text

    line = Text()
    for place, (cell, column) in enumerate(zip(cells, columns, strict=True)):
        room = " " * (widths[column] - cells_wide(words(cell)))
        text = _text(cell)
        if column in grid.right:
            line.append(room)
        line.append_text(text)
        if place < len(columns) - 1:
            line.append(("" if column in grid.right else room) + " " * GAP)
    return line


def _named(heading: str, cell: Cell | str) -> Text:
    text = _text(cell)
    if not heading:
        return text
    named = _text(Cell(f"{heading}: ", "dim"))
    named.append_text(text)
    return named


def _joined(parts: Sequence[Text]) -> Text:
    from rich.text import Text

    return Text("; ").join(parts)


def _text(cell: Cell | str, bold: bool = False) -> Text:
    from rich.text import Text

    cell = Cell(cell) if isinstance(cell, str) else cell
    style = " ".join(part for part in ("bold" if bold else "", _STYLES[cell.tone]) if part)
    return Text(visible(cell.text), style=style)
