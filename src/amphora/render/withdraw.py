"""Results of withdraw, and what of a docket goes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.core.needs.selection import readable
from amphora.core.plan.docket import Docket, Fate
from amphora.core.values.next_step import to_type
from amphora.render.result import Block, Cell, Grid, Result, Row, counted

if TYPE_CHECKING:
    from amphora.engine.runs.forwards import Outcome


def withdrawal_blocks(docket: Docket) -> list[Block]:
    """What a package no longer holds, or is withdrawn: by itself, with the rows at stake and what uses it."""
    words = {Fate.RETIRE: "retire", Fate.LET_GO: "let go", Fate.STAY: "stays"}
    tones = {Fate.RETIRE: "bad", Fate.LET_GO: "warn", Fate.STAY: "dim"}
    rows: list[Row] = [
        [
            Cell(words[one.fate], tones[one.fate]),  # type: ignore[arg-type]
            Cell(readable(one.key), "strong"),
            one.present.states.title
            + (" (there before)" if one.was_there else "")
            + (" (edited there)" if one.key in docket.edited_there else ""),
            f"{one.present.rows or 0:,}",
            Cell(", ".join(readable(user) for user in one.users) or "nothing", "dim"),
        ]
        for one in docket.retirements
    ]
    heading = "No longer in the package" if docket.actions else "Would be withdrawn"
    return [Grid(["", "item", "title", "rows", "used by"], rows, heading, right=(3,))] if rows else []


def withdrawal_result(docket: Docket, outcome: Outcome | None) -> Result:
    """A withdrawal, before or after it."""
    gone, free = len(docket.fated(Fate.RETIRE)), len(docket.fated(Fate.LET_GO))
    rows = sum(one.present.rows or 0 for one in docket.fated(Fate.RETIRE))
    what = f"{counted(gone, 'item')} to retire" + (f", {free} to let go" if free else "")
    what += f", {rows:,} rows at stake" if rows else ""
    what += f", {len(docket.edited_there)} edited there since" if docket.edited_there else ""
    verdict = f"Withdrawing {docket.package} from {docket.target}: {what}. Nothing was touched."
    if outcome:
        kept = f"; definitions and rows are kept in runs/{outcome.run.name}" if gone else ""
        verdict = f"Done: {docket.package} is withdrawn from {docket.target}, {gone} retired, {free} let go{kept}."
    return Result(
        "withdraw",
        verdict,
        "warn" if outcome is None else "good",
        withdrawal_blocks(docket),
        {
            "package": docket.package,
            "target": docket.target,
            "run": outcome.run.name if outcome else None,
            "items": [
                {"key": r.key, "fate": r.fate.value, "rows": r.present.rows or 0, "used_by": list(r.users)}
                for r in docket.retirements
            ],
        },
        to_type("history", outcome.run.name)
        if outcome
        else to_type("withdraw", docket.package, docket.target, "--retire-all"),
        0 if outcome else 1,
    )
