"""Two sides against each other, with nobody importing anything."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.core.merge.patch import patch_of
from amphora.core.values.keys import readable
from amphora.engine.verdicts import of_difference
from amphora.render.beside import text_lines
from amphora.render.changes import change_json, changes_grid
from amphora.render.result import Block, Cell, Grid, Result, Row, titled

if TYPE_CHECKING:
    from amphora.engine.compare import Differences


def difference_result(left: str, right: str, found: Differences) -> Result:
    """Two sides against each other, with nobody importing anything."""
    only_left, only_right, changed = found.only_left, found.only_right, found.changed
    rows: list[Row] = [[f"only in {left}", Cell(readable(key), "strong")] for key in only_left]
    rows += [[f"only in {right}", Cell(readable(key), "strong")] for key in only_right]
    blocks: list[Block] = [Grid([], rows)] if rows else []
    for key, changes in sorted(changed.items()):
        blocks.append(titled(changes_grid(changes, left, right, False), readable(key)))
        blocks += text_lines(changes, (left, right), {})
    data = {
        "only_left": list(only_left),
        "only_right": list(only_right),
        "changed": {key: [change_json(change) for change in changes] for key, changes in changed.items()},
        "patches": {key: patch_of(found.left[key].form, found.right[key].form) for key in changed},
    }
    return Result.of("compare", of_difference(left, right, found), blocks, data)
