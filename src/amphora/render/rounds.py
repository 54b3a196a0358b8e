"""Results of an import into many targets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from amphora.core.needs.crosswalk import row_name
from amphora.core.plan.actions import Do
from amphora.core.plan.commands import to_compare, to_import
from amphora.core.values.next_step import NOTHING, to_type
from amphora.core.values.words import counted, few
from amphora.engine.run_verdicts import of_rounds, of_standstill, of_undo_all
from amphora.engine.verdicts import at_stake
from amphora.render.imports import docket_json, import_result, reason_blocks, reasons_json
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, to_do
from amphora.render.undo import undo_result

if TYPE_CHECKING:
    from amphora.core.plan.docket import Docket
    from amphora.core.plan.reasons import Reason
    from amphora.core.values.errors import AmphoraError
    from amphora.engine.resume import Standstill
    from amphora.engine.rounds import Came
    from amphora.engine.runs.backwards import Back

_STATES: dict[str, Tone] = {"done": "good", "nothing to do": "dim", "paused": "warn", "put back": "bad"}


def rounds_result(
    title: str,
    found: Sequence[Came],
    campaign: str,
    waiting: Sequence[Standstill] = (),
    done: Sequence[str] = (),
    command: str = "import",
) -> Result:
    """What became of each target: a line each, then what went wrong, word for word. `waiting` are targets in which
    somebody has to make something first, `done` those in which all was done before."""
    rows: list[Row] = [
        [
            Cell(came.docket.target, "strong"),
            Cell(came.state, _STATES.get(came.state, "bad" if came.is_bad else "dim")),
            came.outcome.run.name if came.outcome else "",
            # Of what was put back nothing is there that could be counted.
            str(len(came.docket.by(Do.CREATE))) if came.outcome and not came.trouble else "",
            str(len(came.docket.by(Do.UPDATE))) if came.outcome and not came.trouble else "",
            str(sum(one.is_as_promised for one in came.verified)) if came.outcome and not came.trouble else "",
        ]
        for came in found
    ]
    rows += [
        [Cell(one.run.environment, "strong"), Cell("paused", "warn"), one.run.name, "", "", ""] for one in waiting
    ]
    headings = ["target", "state", "run", "new", "changed", "verified"]
    blocks: list[Block] = [Grid(headings, rows, right=(3, 4, 5))] if rows else []
    for one in waiting:
        names = few([row_name(need.need.key) for need in one.waiting])
        after = to_do(of_standstill(one).next_step)
        blocks.append(Lines([f"To be made there by hand: {names}", after], one.run.environment))
    for came in found:
        if came.trouble:
            lines: list[Cell | str] = [Cell(came.trouble.message, "bad"), *came.trouble.details]
            blocks.append(Lines([*lines, *_next(came)], came.docket.target))
        # What is left to do by hand, per target; links are too many for a screen.
        if came.outcome and not came.trouble:
            whole = import_result(came.docket, came.outcome, came.verified)
            blocks += [
                replace(block, title=f"{came.docket.target}: {block.title.lower()}")
                for block in whole.blocks
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
    data += [{"target": one.run.environment, "state": "paused", "run": one.run.name} for one in waiting]
    data += [{"target": name, "state": "done"} for name in done]
    table = {"package": title, "campaign": campaign, "targets": data}
    return Result.of(command, of_rounds(title, found, campaign, waiting, done), blocks, table)


def back_result(
    campaign: str,
    found: Sequence[Back],
    rest: Sequence[str],
    stays: Sequence[str] = (),
    trouble: AmphoraError | None = None,
) -> Result:
    """A campaign was undone, in all its targets or some; `rest` are targets in which that was not begun, because of
    the `trouble` in the first of them, `stays` those for which nobody asked."""
    blocks: list[Block] = []
    if trouble:
        lines: list[Cell | str] = [Cell(trouble.message, "bad"), *trouble.details]
        blocks.append(Lines([*lines, *([to_do(trouble.next_step)] if trouble.next_step else [])], rest[0]))
    for back in found:
        one = undo_result(back)
        blocks.append(Lines([Cell(one.verdict, one.tone)], back.of.environment))
        blocks += [block for block in one.blocks if isinstance(block, Lines)]
    data = [undo_result(back).data for back in found]
    return Result.of("undo", of_undo_all(campaign, found, rest, stays), blocks, {"campaign": campaign, "runs": data})


def comparisons_result(title: str, found: Sequence[tuple[Docket, Sequence[Reason]]]) -> Result:
    """A package against many targets, a sentence each, and what an import would stop at."""
    blocks: list[Block] = []
    for docket, reasons in found:
        blocks.append(Lines([at_stake(docket)], docket.target))
        blocks += reason_blocks(reasons)
    closed = [docket for docket, reasons in found if reasons]
    others = [docket for docket, _ in found if not docket.is_settled]
    words = f"{title} against {counted(len(found), 'target')}: {counted(len(others), 'differs', 'differ')}, "
    words += f"{len(closed)} not as it stands." if closed else "all can go."
    data = [
        {"in_the_way": reasons_json(reasons), **docket_json(docket), "is_same": docket.is_settled}
        for docket, reasons in found
    ]
    first = next(iter([*closed, *others]), None)
    return Result(
        "compare",
        words,
        "warn" if closed else "plain",
        blocks,
        {"package": title, "targets": data},
        to_compare(first) if first else to_type("history"),
        3 if closed else 1 if others else 0,
    )


def previews_result(title: str, found: Sequence[tuple[Docket, Sequence[Reason]]]) -> Result:
    """What an import into many targets would do, a sentence each, and what is in its way."""
    blocks: list[Block] = []
    for docket, reasons in found:
        blocks.append(Lines([at_stake(docket)], docket.target))
        blocks += reason_blocks(reasons)
    closed = [docket.target for docket, reasons in found if reasons]
    words = f"Preview, nothing was touched. {title} into {counted(len(found), 'target')}: "
    words += f"{len(closed)} not as it stands." if closed else "all can go."
    docket = found[0][0]
    data = [{"target": docket.target, "in_the_way": [r.message for r in reasons]} for docket, reasons in found]
    return Result(
        "import",
        words,
        "warn" if closed else "plain",
        blocks,
        {"package": title, "preview": True, "targets": data},
        to_import(docket, targets=[one.target for one, _ in found]) if not closed else NOTHING,
        3 if closed else 0,
    )


def _next(came: Came) -> list[Cell | str]:
    after = came.trouble.next_step if came.trouble else None
    return [to_do(after)] if after else []
