"""Results of resume: where a paused run stands."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.core.needs.crosswalk import MapState, row_name
from amphora.core.values.keys import readable
from amphora.engine.run_verdicts import of_standstill
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_lines

if TYPE_CHECKING:
    from amphora.engine.resume import Standstill


def standstill_result(found: Standstill, command: str = "resume") -> Result:
    """A run that waits: what is to be done, with the values that it takes; what is in, and what isn't yet."""
    blocks: list[Block] = []
    for made in found.made:
        # One a line and nothing beside it: they are copied into other people's forms.
        values: list[Row] = [[Cell(name, "dim"), Cell(value, "strong")] for name, value in made.values]
        needs = [row_name(one.need.key) for one in found.waiting if found.makers[one.need.key] == made.key]
        who = f" (by {made.words.who})" if made.words.who else ""
        blocks.append(Grid([], values, f"Make {', '.join(needs)} from {made.title}{who}"))
        if advised := [words for words in (made.words.do, made.note) if words]:
            blocks.append(Lines(advised))
    if found.words:
        said = [f"- after {readable(key)}{f': {about}' if about else ''}" for key, about in found.words]
        lines: list[Cell | str] = [*said, "Whoever gives it goes on with the run."]
        blocks.append(Lines(lines, "Somebody's word is awaited"))
    told = [
        Cell(f"- {row_name(one.need.key)}: perhaps {one.value}, {one.reason}", "good")
        if one.state is MapState.GUESSED
        else Cell(f"- {row_name(one.need.key)}: {one.reason}", "warn")
        for one in found.waiting
    ]
    if told:
        blocks.append(Lines(cut_lines(told, "--json"), "Looked for just now"))
    done: list[Cell | str] = [readable(key) for key in found.done]
    blocks.append(Lines(cut_lines(done, "--json"), "Is in; switched on only at the end"))
    if found.gone:
        gone: list[Cell | str] = [readable(key) for key in found.gone]
        blocks.append(Lines(cut_lines(gone, "--json"), "Was brought, and somebody removed it"))
    if found.still:
        still: list[Cell | str] = [readable(key) for key in found.still]
        blocks.append(Lines(cut_lines(still, "--json"), "Comes after the pause"))
    return Result.of(
        command,
        of_standstill(found),
        blocks,
        {
            "state": found.run.state,
            "run": found.run.name,
            "target": found.run.environment,
            "package": f"{found.run.package} {found.run.version}",
            "in": list(found.done),
            "gone": list(found.gone),
            "still_to_come": list(found.still),
            "words": dict(found.words),
            "waits_for": [
                {
                    "need": one.need.key,
                    "made_from": found.makers[one.need.key],
                    "offer": one.value if one.state is MapState.GUESSED else None,
                    "reason": one.reason,
                }
                for one in found.waiting
            ],
            "values": {made.key: dict(made.values) for made in found.made},
            "notes": {made.key: made.note for made in found.made if made.note},
        },
    )
