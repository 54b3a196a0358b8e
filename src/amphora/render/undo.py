"""Results of undo: what it would do, and what the look afterwards showed."""

from __future__ import annotations

from amphora.core.plan.fates import Fate
from amphora.core.plan.restoration import Restoration
from amphora.core.values.keys import readable
from amphora.engine.run_verdicts import of_undo, of_undo_to_be
from amphora.engine.runs.backwards import Back
from amphora.ledger.records import Run
from amphora.render.aftercare import care_blocks, entry_json
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_grid, cut_lines

WHOLE = "amphora undo RUN --json"


def foreseen_result(run: Run, found: Restoration) -> Result:
    """What undoing a run would put back, and what would stay."""
    rows: list[Row] = [
        [
            Cell(verdict.fate.value, "warn" if verdict.fate is Fate.LEFT else "plain"),
            Cell(readable(key), "strong"),
            found.evidence[key].title,
            Cell(verdict.reason or verdict.note, "dim"),
        ]
        for key, verdict in found.verdicts.items()
    ]
    back, left = len(found.by(Fate.RESTORE)), len(found.by(Fate.LEFT))
    return Result.of(
        "undo",
        of_undo_to_be(run, back, left),
        [cut_grid(Grid(["", "item", "title", "why"], rows, spare=(2,)), WHOLE)] if rows else [],
        {
            "preview": True,
            "run": run.name,
            "items": [{"key": k, "fate": v.fate.value, "reason": v.reason} for k, v in found.verdicts.items()],
            "steps": [[step.do, list(step.keys)] for step in found.steps],
        },
    )


def undo_result(back: Back) -> Result:
    """A run was put back: what the target is like now is what a look at it showed."""
    blocks: list[Block] = []
    if back.left:
        lines = [Cell(f"- {line}", "warn") for line in back.left]  # left on purpose: nothing is wrong
        blocks.append(Lines(cut_lines(lines, WHOLE), "Left as it is now"))
    if back.differing:
        blocks.append(Lines([Cell(f"- {line}", "bad") for line in back.differing], "Put back, and not as it was"))
    if back.notes or back.outside:
        others = [f"- {line}" for line in back.outside]
        blocks.append(Lines(cut_lines([*(f"- {note}" for note in back.notes), *others], WHOLE), "Worth knowing"))
    if back.renewed:
        rows: list[Row] = [[Cell(readable(key), "strong"), link] for key, link in sorted(back.renewed.items())]
        # Not every platform has pages for its items.
        at, what = ("is now at", "link") if any(back.renewed.values()) else ("", "id")
        blocks.append(Grid(["item", at], rows, f"Made again, under a new {what}"))
    blocks += care_blocks(back.care)
    if not back.is_recorded:
        blocks.append(Lines([Cell("The ledger could not be written: there the run is still open.", "bad")]))
    return Result.of(
        "undo",
        of_undo(back),
        blocks,
        {
            "run": back.of.name,
            "state": back.of_state,
            "as_before": back.is_as_before,
            "restored": list(back.restored),
            "left": list(back.left),
            "differing": list(back.differing),
            "changed_by_others": list(back.outside),
            "notes": list(back.notes),
            "new_links": dict(back.renewed),
            "aftercare": [entry_json(entry) for entry in back.care],
        },
    )
