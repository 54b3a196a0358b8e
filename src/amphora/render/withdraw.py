"""Results of withdraw, and what of a docket goes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from amphora.core.plan.docket import Docket, Parting, Retirement
from amphora.core.values.keys import readable
from amphora.engine.verdicts import of_withdrawal
from amphora.render.result import Block, Cell, Grid, Result, Row

if TYPE_CHECKING:
    from amphora.engine.runs.outcome import Outcome


def withdrawal_blocks(docket: Docket, is_done: bool = False) -> list[Block]:
    """What a package no longer holds, or is withdrawn: by itself, with the rows at stake and what uses it."""
    words = {Parting.RETIRE: "retire", Parting.LET_GO: "let go", Parting.STAY: "stays"}
    tones = {Parting.RETIRE: "bad", Parting.LET_GO: "warn", Parting.STAY: "dim"}
    rows: list[Row] = [
        [
            Cell(words[one.fate], tones[one.fate]),  # type: ignore[arg-type]
            Cell(readable(one.key), "strong"),
            one.present.states.title
            + (" (there before)" if one.was_there else "")
            + (" (handed over)" if one.is_handed_over else "")
            + (" (edited there)" if one.key in docket.edited_there else "")
            + along_words(one)
            + (" (its secret goes for good)" if one.has_secret and one.fate is not Parting.LET_GO else ""),
            f"{one.present.rows or 0:,}",
            Cell(", ".join(readable(user) for user in one.users) or "nothing", "dim"),
        ]
        for one in docket.retirements
    ]
    heading = "No longer in the package" if docket.actions else "Withdrawn" if is_done else "Would be withdrawn"
    return [Grid(["", "item", "title", "rows", "used by"], rows, heading, right=(3,))] if rows else []


def retirement_row(one: Retirement) -> dict[str, Any]:
    """What may go, for programs."""
    row = {"key": one.key, "fate": one.fate.value, "rows": one.present.rows or 0, "used_by": list(one.users)}
    return {**row, "along_with": one.along or None, "holds_secret": one.has_secret}


def along_words(one: Retirement) -> str:
    """With what else an item goes, and whose it is."""
    whose = f", of {', '.join(one.claimed)}" if one.claimed else ""
    return f" (goes along with {readable(one.along)}{whose})" if one.along else ""


def withdrawal_result(docket: Docket, outcome: Outcome | None) -> Result:
    """A withdrawal, before or after it."""
    return Result.of(
        "withdraw",
        of_withdrawal(docket, outcome.run if outcome else None),
        withdrawal_blocks(docket, outcome is not None),
        {
            "package": docket.package,
            "target": docket.target,
            "run": outcome.run.name if outcome else None,
            "items": [retirement_row(one) for one in docket.retirements],
        },
    )
