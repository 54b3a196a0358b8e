"""Results on a terminal or in a pipe."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, TextIO

from amphora.core.values.visible import visible
from amphora.render.plain import cells_wide, words
from amphora.render.result import Block, Cell, Grid, Lines, Result, Tone

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

PIPE_WIDTH = 4000
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
    for block in result.blocks:
        console.print()
        if block.title:
            console.print(_text(Cell(block.title, "strong")))
        block, left_out = _fitted(block, console.width)
        console.print(_renderable(block))
        if left_out:
            console.print(_text(Cell(f"(too narrow here for: {', '.join(left_out)})", "dim")))
    if result.next_step:
        console.print()
        console.print(_text(Cell(f"Next: {result.next_step}")))


def _fitted(block: Block, width: int) -> tuple[Block, list[str]]:
    """A grid without the spare columns for which there is no room, and their headings."""
    left_out: list[str] = []
    if isinstance(block, Lines):
        return block, left_out
    kept = list(range(len(block.headings)))
    lengths = [
        max([cells_wide(h), *(cells_wide(words(row[n])) for row in block.rows)]) + 2
        for n, h in enumerate(block.headings)
    ]
    # Whole columns are left out, and named: a title that is cut off reads like another title.
    for column in block.spare:
        if sum(lengths[n] for n in kept) - 2 > width:
            kept.remove(column)
            left_out.append(block.headings[column])
    if not left_out:
        return block, left_out
    return Grid(
        [block.headings[n] for n in kept],
        [[row[n] for n in kept] for row in block.rows],
        block.title,
        [kept.index(n) for n in block.right if n in kept],
    ), left_out


def _renderable(block: Block) -> Table | Text:
    from rich.text import Text

    if isinstance(block, Lines):
        return Text("\n").join(_text(line) for line in block.lines)
    return _table(block)


def _table(grid: Grid) -> Table:
    from rich.table import Table

    table = Table(
        box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=_STYLES["dim"], show_header=bool(grid.headings)
    )
    width = len(grid.rows[0]) if grid.rows else 0
    for number, heading in enumerate(grid.headings or [""] * width):
        table.add_column(heading, justify="right" if number in grid.right else "left", overflow="fold")
    for row in grid.rows:
        table.add_row(*(_text(cell) for cell in row))
    return table


def _text(cell: Cell | str, bold: bool = False) -> Text:
    from rich.text import Text

    cell = Cell(cell) if isinstance(cell, str) else cell
    style = " ".join(part for part in ("bold" if bold else "", _STYLES[cell.tone]) if part)
    return Text(visible(cell.text), style=style)
