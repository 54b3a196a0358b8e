"""Results in a pipe: plain text at full width, without loading a terminal library."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator

from amphora.core.values.visible import visible
from amphora.render.result import Cell, Grid, Lines, Result


def plain_lines(result: Result) -> Iterator[str]:
    """Verdict, blocks, next command; no line ends in spaces."""
    yield visible(result.verdict)
    for block in result.shown:
        yield ""
        if block.title:
            yield visible(block.title)
        yield from _grid(block) if isinstance(block, Grid) else _lines(block)
    if result.next_step:
        yield ""
        yield visible(f"Next: {result.next_step}")


def words(cell: Cell | str) -> str:
    """The text of a cell, on one line: here is the edge at which texts of others reach a screen."""
    return visible(cell if isinstance(cell, str) else cell.text)


def cells_wide(text: str) -> int:
    """How many columns a text takes: wide letters two, combining marks none (Unicode, annex 11)."""
    if text.isascii():
        return len(text)
    return sum(
        0 if unicodedata.combining(letter) else 2 if unicodedata.east_asian_width(letter) in "WF" else 1
        for letter in text
    )


def _lines(block: Lines) -> Iterator[str]:
    for line in block.lines:
        yield words(line).rstrip()


def _grid(grid: Grid) -> Iterator[str]:
    rows = [[words(cell) for cell in row] for row in grid.rows]
    if grid.headings:
        rows.insert(0, list(grid.headings))
    if not rows:
        return
    # In columns of a terminal, not in letters: names in other scripts would shift everything behind them.
    widths = [max(cells_wide(row[n]) for row in rows) for n in range(len(rows[0]))]
    for row in rows:
        yield "  ".join(_padded(part, widths[n], n in grid.right) for n, part in enumerate(row)).rstrip()


def _padded(text: str, width: int, is_right: bool) -> str:
    room = " " * (width - cells_wide(text))
    return room + text if is_right else text + room
