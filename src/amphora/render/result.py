"""What every command gives back: a verdict, blocks to read, data for machines, the next command."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, Any, Literal

from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NOTHING, NextStep

if TYPE_CHECKING:
    from amphora.engine.verdicts import Verdict

Tone = Literal["plain", "good", "warn", "bad", "dim", "strong"]


@dataclass(frozen=True)
class Cell:
    """A piece of text with a tone; the words carry the meaning, the tone only helps the eye."""

    text: str
    tone: Tone = "plain"
    step: NextStep = NOTHING
    """The next step that the text shows, if it does."""


def to_do(step: NextStep) -> Cell:
    """A next step below what it is about."""
    return Cell(f"  {step}", "strong", step)


Row = Sequence[Cell | str]


@dataclass(frozen=True)
class Grid:
    """Rows under headings. `right` are the columns that are set flush right, `spare` those that are left
    out on a narrow terminal, the first one first."""

    headings: Sequence[str]
    rows: Sequence[Row]
    title: str = ""
    right: Sequence[int] = ()
    spare: Sequence[int] = ()


@dataclass(frozen=True)
class Lines:
    """Plain lines under a title."""

    lines: Sequence[Cell | str]
    title: str = ""


Block = Grid | Lines


@dataclass(frozen=True)
class Result:
    """One command's result. `data` is what `--json` adds to verdict and next step."""

    command: str
    verdict: str
    tone: Tone = "plain"
    blocks: Sequence[Block] = ()
    data: dict[str, Any] = field(default_factory=dict)
    next_step: NextStep = NOTHING
    code: int = 0

    @staticmethod
    def of(command: str, verdict: Verdict, blocks: Sequence[Block], data: dict[str, Any]) -> Result:
        """The look of a verdict: nothing here decides what is said first, or which code comes out."""
        return Result(command, verdict.words, verdict.standing, blocks, data, verdict.next_step, verdict.code)

    @property
    def shown(self) -> Sequence[Block]:
        """The blocks as they are drawn: a single command in them that comes next anyway is told at the end only."""
        last = to_do(self.next_step)
        steps = [line for one in self.blocks if isinstance(one, Lines) for line in one.lines if _is_to_do(line)]
        if not self.next_step or steps != [last]:
            return self.blocks
        left = [
            replace(one, lines=[line for line in one.lines if line != last]) if isinstance(one, Lines) else one
            for one in self.blocks
        ]
        return [one for one in left if not isinstance(one, Lines) or one.lines or one.title]

    def everywhere(self, *words: str) -> Result:
        """The same with these words behind each command in it."""
        if not words:
            return self
        return replace(
            self,
            blocks=[_everywhere(block, words) for block in self.blocks],
            data=_data_everywhere(self.data, words),
            next_step=self.next_step.everywhere(*words),
        )


def _is_to_do(line: Cell | str) -> bool:
    return isinstance(line, Cell) and bool(line.step)


def _everywhere(block: Block, words: Sequence[str]) -> Block:
    if isinstance(block, Grid):
        return block
    steps = [line.step if isinstance(line, Cell) else NOTHING for line in block.lines]
    lines = [to_do(step.everywhere(*words)) if step else line for line, step in zip(block.lines, steps, strict=True)]
    return replace(block, lines=lines)


def _data_everywhere(value: Any, words: Sequence[str]) -> Any:
    if isinstance(value, NextStep):
        return value.everywhere(*words)
    if isinstance(value, dict):
        return {name: _data_everywhere(inner, words) for name, inner in value.items()}
    return [_data_everywhere(inner, words) for inner in value] if isinstance(value, list) else value


def titled(grid: Grid, title: str) -> Grid:
    """The same grid under another title."""
    return replace(grid, title=title)


MOST_ROWS = 40
"""Of a list of one kind of thing, this many are shown on a screen."""


def cut_grid(grid: Grid, whole: str) -> Grid:
    """A grid with as many rows as a person reads; `whole` says where all of them are."""
    if len(grid.rows) <= MOST_ROWS:
        return grid
    more = len(grid.rows) - MOST_ROWS
    width = len(grid.rows[0])
    blank: list[Cell | str] = [""] * (width - 2)
    last: list[Cell | str] = ["…", Cell(f"and {more:,} more: {whole}", "dim"), *blank]
    return replace(grid, rows=[*grid.rows[:MOST_ROWS], last[:width]])


def cut_lines(lines: Sequence[Cell | str], whole: str) -> list[Cell | str]:
    """Lines likewise."""
    if len(lines) <= MOST_ROWS:
        return list(lines)
    return [*lines[:MOST_ROWS], Cell(f"… and {len(lines) - MOST_ROWS:,} more: {whole}", "dim")]


def shown(value: Any, longest: int = 60) -> str:
    """A JSON value on one line, shortened in the middle where it is long."""
    import json

    from amphora.core.form.bindings import MISSING

    if value is MISSING:
        return "(none)"
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    text = text.replace("\n", "⏎")
    if len(text) <= longest:
        return text or '""'
    # Cut in the middle: addresses and ids differ at their ends.
    head = longest * 2 // 3
    return f"{text[:head]}…{text[len(text) - (longest - head - 1) :]}"
