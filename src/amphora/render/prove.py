"""Whether an environment keeps its promises: a line for each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from amphora.core.values.next_step import advice, to_type
from amphora.core.values.visible import visible
from amphora.core.values.words import counted
from amphora.engine.promises import Kept, Promise
from amphora.engine.verdicts import COUNTS
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone

_TONES: dict[Kept, Tone] = {Kept.HOLDS: "good", Kept.FAILS: "bad", Kept.ODD: "warn", Kept.UNTOLD: "dim"}
_SAID = {Kept.ODD: "holds, but"}


def proved_result(name: str, promises: Sequence[Promise]) -> Result:
    """What became of each promise, the broken ones first, with the calls that showed it."""
    broken = [one for one in promises if one.kept is Kept.FAILS]
    # What somebody has to read comes before what merely holds.
    first = [Kept.FAILS, Kept.ODD, Kept.UNTOLD, Kept.HOLDS]
    order = sorted(promises, key=lambda one: (first.index(one.kept), one.kind))
    rows: list[Row] = [
        [
            Cell(one.kind or "all", "strong"),
            one.name,
            Cell(_SAID.get(one.kept, one.kept.value), _TONES[one.kept]),
            visible(one.words),
        ]
        for one in order
    ]
    blocks: list[Block] = [Grid(["kind", "promise", "", "what was found"], rows)]
    for one in broken:
        if one.calls:
            lines = [f"- {visible(call)}" for call in one.calls]
            blocks.append(Lines(lines, f"The calls before: {one.kind + ', ' if one.kind else ''}{one.name}"))
    odd = sum(one.kept is Kept.ODD for one in promises)
    untold = sum(one.kept is Kept.UNTOLD for one in promises)
    words = f"{name} keeps all {counted(len(promises) - untold, 'promise')} that could be tried"
    words += f", {odd} in a way of its own" if odd else ""
    words += f"; {untold} couldn't be" if untold else ""
    after = to_type("survey", name)
    if broken:
        words = f"{name} breaks {counted(len(broken), 'promise')} of {len(promises)}"
        after = advice("Mend the bridge sheet or the server (docs/bridges.md), then prove it again.")
    data = {"environment": name, "promises": [asdict(one) for one in promises]}
    return Result("env prove", f"{words}.", "bad" if broken else "good", blocks, data, after, COUNTS if broken else 0)
