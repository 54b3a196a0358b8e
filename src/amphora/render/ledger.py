"""The result of moving a ledger."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.core.values.next_step import to_type
from amphora.core.values.words import counted
from amphora.render.result import Block, Lines, Result

if TYPE_CHECKING:
    from amphora.engine.ledger import Moved


def moved_result(moved: Moved) -> Result:
    """Where the ledger is now, with what."""
    counts = moved.counts
    words = f"The ledger is on {moved.place} now: {counted(counts['runs'], 'run')},"
    words += f" {counted(counts['exports'], 'export')}, {counted(counts['deliveries'], 'delivery', 'deliveries')}"
    words += " and all that belongs to them, counted and compared."
    lines: list[Block] = [
        Lines(
            [
                f"What it was is kept as {moved.kept.name}; no command looks there any more.",
                "Whoever works with you writes the same address as ledger into amphora.toml.",
            ]
        )
    ]
    data = {"place": moved.place, "rows": counts, "kept": str(moved.kept)}
    return Result("ledger", words, "good", lines, data, to_type("history"))
