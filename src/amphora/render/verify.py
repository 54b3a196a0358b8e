"""The result of verify."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.values.keys import readable
from amphora.core.values.next_step import to_type
from amphora.core.values.words import few
from amphora.engine.verdicts import COUNTS, of_verification
from amphora.engine.verify import Verified
from amphora.render.changes import change_json, changes_grid
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, titled


def verifications_result(package: str, each: Mapping[str, tuple[str, Sequence[Verified]]]) -> Result:
    """Whether several targets are what was promised: a line each, then what differs."""
    single = {name: verify_result(package, version, name, found) for name, (version, found) in each.items()}
    wrong = [name for name, result in single.items() if result.code]
    rows: list[Row] = [
        [
            Cell(name, "strong"),
            each[name][0],
            Cell("not as promised", "bad") if name in wrong else Cell("as promised", "good"),
            f"{sum(one.is_as_promised for one in each[name][1])} of {len(each[name][1])}",
        ]
        for name in each
    ]
    blocks: list[Block] = [Grid(["target", "version", "", "items"], rows, right=(3,))]
    for name in wrong:
        blocks += [Lines([], name), *single[name].blocks]
    words = f"All {len(each)} targets are as promised: {package}."
    if wrong:
        words = f"{len(wrong)} of {len(each)} targets are not as promised: {few(wrong, 8)}."
    after = single[wrong[0]].next_step if wrong else to_type("history")
    data = {"package": package, "targets": [result.data for result in single.values()]}
    return Result("verify", words, "bad" if wrong else "good", blocks, data, after, COUNTS if wrong else 0)


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
