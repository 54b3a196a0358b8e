"""Results of history: all runs, and one in full."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.values.keys import readable
from amphora.core.values.next_step import blank, to_type
from amphora.core.values.words import counted, few
from amphora.engine.run_verdicts import of_run, of_runs
from amphora.ledger.records import (
    BACKWARDS,
    BROKEN_OFF,
    IMPORT,
    OPEN,
    PUT_BACK,
    UNDONE,
    Campaign,
    JournalStep,
    LegOf,
    Run,
)
from amphora.render.result import Cell, Grid, Lines, Result, Row, Tone, cut_grid

_STATE: dict[str, Tone] = {
    "undone": "warn",
    "done": "good",
    "put back": "warn",
    "broken off": "bad",
    "running": "warn",
    "paused": "warn",
    "kept": "warn",
}


def history_result(runs: Sequence[Run]) -> Result:
    """All runs, the latest first."""
    names = {run.id: run.name for run in runs}
    rows: list[Row] = [
        [
            Cell(r.name, "strong"),
            _what(r, names),
            Cell(r.state, _STATE.get(r.state, "plain")),
            r.started_at,
            Cell(r.account, "dim"),
        ]
        for r in runs
    ]
    bad = sum(run.is_open for run in runs)
    return Result(
        "history",
        f"{counted(len(runs), 'run')}{f', {bad} of them still open' if bad else ''}." if runs else "No run yet.",
        blocks=[Grid(["run", "what", "state", "started", "by"], rows, spare=(4,))] if runs else [],
        data={"runs": [vars(run) for run in runs]},
        next_step=of_runs(runs) if runs else to_type("import", blank("PACKAGE"), blank("ENVIRONMENT")),
    )


def run_result(
    run: Run, journal: Sequence[JournalStep], backwards: Sequence[Run] = (), legs: Sequence[LegOf] = ()
) -> Result:
    """One run in full; `backwards` are the runs that put it back, `legs` who carried out which part of it."""
    rows: list[Row] = [
        [str(step.number), step.do, Cell(few([readable(key) for key in step.keys]), "strong"), step.state]
        for step in journal
    ]
    notes = [Lines([Cell(run.note, "warn")])] if run.note else []
    if len(legs) > 1:
        lines: list[Cell | str] = [
            f"leg {leg.number} by {leg.account}, begun {leg.began}, {_end(leg)}" for leg in legs
        ]
        notes.append(Lines(lines, "Legs"))
    if backwards:
        # Of a run that went on afterwards only a leg was put back.
        what = "Put back by" if run.state in (PUT_BACK, UNDONE, BROKEN_OFF) else "A leg of it was put back by"
        notes.append(Lines([f"{what} {', '.join(other.name for other in backwards)}."]))
    return Result(
        "history",
        f"{run.name}: {_what(run, {})} into {run.environment}, {run.state}; {run.started_at} by {run.account}.",
        _STATE.get(run.state, "plain"),
        [
            *notes,
            cut_grid(Grid(["", "step", "item", "outcome"], rows, right=(0,)), "amphora history RUN --json"),
        ],
        {
            "run": vars(run),
            "put_back_by": [other.name for other in backwards],
            "legs": [vars(leg) for leg in legs],
            "steps": [{"number": s.number, "do": s.do, "keys": list(s.keys), "state": s.state} for s in journal],
        },
        of_run(run),
    )


def campaign_result(campaign: Campaign, runs: Sequence[Run]) -> Result:
    """One import into many targets: how it stands in each."""
    latest: dict[str, Run] = {}
    for run in runs:
        latest.setdefault(run.environment, run)
    rows: list[Row] = []
    for number, names in enumerate(campaign.request["rounds"], 1):
        for name in names:
            mine = latest.get(name)
            state = mine.state if mine else "not begun, or nothing to do"
            rows.append(
                [
                    str(number),
                    Cell(name, "strong"),
                    Cell(state, _STATE.get(state, "dim")),
                    mine.name if mine else "",
                    mine.started_at if mine else "",
                    Cell(mine.account if mine else "", "dim"),
                ]
            )
    words = f"{campaign.name}: {campaign.package} {campaign.version} into {len(campaign.targets)} targets,"
    return Result(
        "history",
        f"{words} {campaign.state}; {campaign.started_at} by {campaign.account}.",
        "warn" if campaign.state == OPEN else "plain",
        [Grid(["round", "target", "state", "run", "started", "by"], rows, right=(0,))],
        {"campaign": campaign.name, "state": campaign.state, "runs": [vars(run) for run in runs]},
        to_type("resume" if campaign.state == OPEN else "verify", *_of_campaign(campaign)),
    )


def _of_campaign(campaign: Campaign) -> tuple[str, ...]:
    return (campaign.name,) if campaign.state == OPEN else (campaign.package, *campaign.targets)


def _end(leg: LegOf) -> str:
    return f"{leg.state} {leg.ended}" if leg.ended else "still going on, or cut off"


def _what(run: Run, names: Mapping[int, str]) -> str:
    """What a run carried out, in a few words."""
    package = f"{run.package} {run.version}".strip()
    if run.kind in BACKWARDS:
        return f"{run.kind} of {names.get(run.of_run or 0, package)}"
    part = f" ({run.campaign})" if run.campaign else ""
    return f"{package}{part}" if run.kind == IMPORT else f"{run.kind} of {package}"
