"""The result of verify."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.values.keys import readable
from amphora.engine.verdicts import of_verification
from amphora.engine.verify import Verified
from amphora.render.changes import change_json, changes_grid
from amphora.render.result import Block, Cell, Lines, Result, titled


def verify_result(package: str, version: str, environment: str, verified: Sequence[Verified]) -> Result:
    """Whether a target is what was promised."""
    wrong = [one for one in verified if not one.is_as_promised]
    blocks: list[Block] = []
    for one in wrong:
        if one.is_there:
            blocks.append(titled(changes_grid(one.differences, "promised", "found", False), readable(one.key)))
        else:
            blocks.append(Lines([Cell("It is no longer there.", "bad")], readable(one.key)))
    return Result.of(
        "verify",
        of_verification(package, version, environment, verified),
        blocks,
        {
            "package": package,
            "version": version,
            "environment": environment,
            "items": [
                {
                    "key": one.key,
                    "as_promised": one.is_as_promised,
                    "there": one.is_there,
                    "differences": [change_json(change) for change in one.differences],
                }
                for one in verified
            ],
        },
    )
