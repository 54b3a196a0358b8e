"""Results of an import into many targets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from amphora.core.plan.docket import Do
from amphora.engine.run_verdicts import of_rounds
from amphora.engine.verdicts import at_stake
from amphora.render.imports import import_result, reason_blocks
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone

if TYPE_CHECKING:
    from amphora.core.plan.docket import Docket
    from amphora.core.plan.gate import Reason
    from amphora.engine.rounds import Came

_STATES: dict[str, Tone] = {"done": "good", "nothing to do": "dim", "paused": "warn", "put back": "bad"}


def rounds_result(title: str, found: Sequence[Came]) -> Result:
    """What became of each target: a line each, then what went wrong, word for word."""
    rows: list[Row] = [
        [
            Cell(came.docket.target, "strong"),
            Cell(came.state, _STATES.get(came.state, "bad" if came.is_bad else "dim")),
            came.outcome.run.name if came.outcome else "",
            str(len(came.docket.by(Do.CREATE))) if came.outcome else "",
            str(len(came.docket.by(Do.UPDATE))) if came.outcome else "",
            str(sum(one.is_as_promised for one in came.verified)) if came.outcome else "",
        ]
        for came in found
    ]
    headings = ["target", "state", "run", "new", "changed", "verified"]
    blocks: list[Block] = [Grid(headings, rows, right=(3, 4, 5))]
    for came in found:
        if came.trouble:
            lines: list[Cell | str] = [Cell(came.trouble.message, "bad"), *came.trouble.details]
            blocks.append(Lines([*lines, *_next(came)], came.docket.target))
        # What is left to do by hand, per target; links are too many for a screen.
        if came.outcome and not came.trouble:
            done = import_result(came.docket, came.outcome, came.verified)
            blocks += [
                replace(block, title=f"{came.docket.target}: {block.title.lower()}")
                for block in done.blocks
                if isinstance(block, Lines) and block.title
            ]
    data = [
        {"target": came.docket.target, "state": came.state}
        | ({"run": came.outcome.run.name} if came.outcome else {})
        | ({"error": came.trouble.message} if came.trouble else {})
        | (
            {"result": import_result(came.docket, came.outcome, came.verified).data}
            if came.outcome and not came.trouble
            else {}
        )
        for came in found
    ]
    return Result.of("import", of_rounds(title, found), blocks, {"package": title, "targets": data})


def previews_result(title: str, found: Sequence[tuple[Docket, Sequence[Reason]]]) -> Result:
    """What an import into many targets would do, a sentence each, and what is in its way."""
    blocks: list[Block] = []
    for docket, reasons in found:
        blocks.append(Lines([at_stake(docket)], docket.target))
        blocks += reason_blocks(reasons)
    closed = [docket.target for docket, reasons in found if reasons]
    words = f"Preview, nothing was touched. {title} into {len(found)} targets: "
    words += f"{len(closed)} not as it stands." if closed else "all can go."
    data = [{"target": docket.target, "in_the_way": [r.message for r in reasons]} for docket, reasons in found]
    return Result(
        "import",
        words,
        "warn" if closed else "plain",
        blocks,
        {"package": title, "preview": True, "targets": data},
        code=3 if closed else 0,
    )


def _next(came: Came) -> list[Cell | str]:
    after = came.trouble.next_step if came.trouble else None
    return [Cell(f"  {after}", "strong")] if after else []
