"""Results of verify and history."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.needs.selection import readable
from amphora.engine.verify import Verified
from amphora.ledger.records import JournalStep, Run
from amphora.render.changes import (
    change_json,
    changes_grid,
)
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, counted, titled


def verify_result(package: str, version: str, environment: str, verified: Sequence[Verified]) -> Result:
    """Whether a target is what was promised."""
    wrong = [one for one in verified if not one.is_as_promised]
    blocks: list[Block] = []
    for one in wrong:
        if one.is_there:
            blocks.append(titled(changes_grid(one.differences, "promised", "found", False), readable(one.key)))
        else:
            blocks.append(Lines([Cell("It is no longer there.", "bad")], readable(one.key)))
    verdict = (
        f"{environment} is as promised: all {len(verified)} items of {package} {version}."
        if not wrong
        else f"{environment} is not as promised: {len(wrong)} of {len(verified)} items of {package} {version} differ."
    )
    return Result(
        "verify",
        verdict,
        "bad" if wrong else "good",
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
        f"amphora compare {package} {environment}" if wrong else "amphora history",
        1 if wrong else 0,
    )


def undo_result(run: Run, left: Sequence[str]) -> Result:
    """A run was put back."""
    blocks = [Lines([Cell(f"- {name}", "bad") for name in left], "Could not be put back")] if left else []
    verdict = f"{run.name} is undone: {run.environment} is as it was before."
    if left:
        verdict = f"{run.name} is undone but for {counted(len(left), 'item')} in {run.environment}."
    data = {"run": run.name, "state": run.state, "left": list(left)}
    return Result("undo", verdict, "bad" if left else "good", blocks, data, "amphora history", 6 if left else 0)


_STATE: dict[str, Tone] = {
    "undone": "warn",
    "done": "good",
    "put back": "warn",
    "broken off": "bad",
    "running": "warn",
}


def history_result(runs: Sequence[Run]) -> Result:
    """All runs, the latest first."""
    rows: list[Row] = [
        [
            Cell(r.name, "strong"),
            f"{r.package} {r.version}",
            Cell(r.state, _STATE.get(r.state, "plain")),
            r.started_at,
            Cell(r.account, "dim"),
        ]
        for r in runs
    ]
    bad = sum(run.state != "done" for run in runs)
    return Result(
        "history",
        f"{counted(len(runs), 'run')}{f', {bad} of them not done' if bad else ''}." if runs else "No run yet.",
        blocks=[Grid(["run", "package", "state", "started", "by"], rows, spare=(4,))] if runs else [],
        data={"runs": [vars(run) for run in runs]},
        next_step=f"amphora history {runs[0].name}" if runs else "amphora import PACKAGE ENVIRONMENT",
    )


def run_result(run: Run, journal: Sequence[JournalStep]) -> Result:
    """One run in full."""
    rows: list[Row] = [
        [str(step.number), step.do, Cell(", ".join(map(readable, step.keys)), "strong"), step.state]
        for step in journal
    ]
    note = [Lines([Cell(run.note, "warn")])] if run.note else []
    return Result(
        "history",
        f"{run.name}: {run.package} {run.version} into {run.environment}, {run.state};"
        f" {run.started_at} by {run.account}.",
        _STATE.get(run.state, "plain"),
        [*note, Grid(["", "step", "item", "outcome"], rows, right=(0,))],
        {
            "run": vars(run),
            "steps": [{"number": s.number, "do": s.do, "keys": list(s.keys), "state": s.state} for s in journal],
        },
        _after(run),
    )


def _after(run: Run) -> str:
    """What to do next about a run."""
    if run.state == "done":
        return f"amphora verify {run.name}"
    if run.state in ("running", "broken off"):
        return f"amphora undo {run.name}"
    return f"amphora compare {run.package}-{run.version} {run.environment}"
