"""Results of deliveries, edits and withdraw."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.merge.merge import FieldChange
from amphora.core.needs.selection import readable
from amphora.core.plan.docket import Docket, Fate
from amphora.engine.edits import Edited, Traced
from amphora.engine.runs import Outcome
from amphora.render.beside import text_lines
from amphora.render.changes import place_phrase
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, counted, shown


def deliveries_result(traced: Traced) -> Result:
    """Who delivered an item when, whose claim it is, and what happened since."""
    title, name = traced.listed.states.title, traced.environment
    if not traced.deliveries:
        return Result(
            "deliveries",
            f"{title!r} was never delivered into {name} by Amphora.",
            data={"item": traced.key, "deliveries": [], "claims": [], "edits": []},
            next_step=f"amphora uses {name} {readable(traced.key)}",
        )
    latest = traced.deliveries[0]
    rows: list[Row] = [
        [
            Cell("in force" if number == 0 else "", "good"),
            Cell(f"{one.delivery.package} {one.delivery.version}", "strong"),
            one.at,
            one.run,
            Cell(one.account, "dim"),
        ]
        for number, one in enumerate(traced.deliveries)
    ]
    blocks: list[Block] = [Grid(["", "package", "when", "run", "by"], rows, readable(traced.key))]
    claims: list[Row] = [
        [Cell(claim.package, "strong"), claim.version, f"in the {claim.custody}'s custody"] for claim in traced.claims
    ]
    if claims:
        blocks.append(Grid(["claimed by", "version", ""], claims))
    if traced.edits:
        blocks.append(edits_grid(traced.edits, f"Edited in {name} since"))
    since = f"; {counted(len(traced.edits), 'field')} edited there since" if traced.edits else "; not edited since"
    packages = {one.delivery.package for one in traced.deliveries}
    others = f", also delivered by {', '.join(sorted(packages - {latest.delivery.package}))}"
    return Result(
        "deliveries",
        f"{title!r} in {name} is that of {latest.delivery.package} {latest.delivery.version}"
        f"{others if len(packages) > 1 else ''}{since}.",
        "warn" if traced.edits or len(packages) > 1 else "good",
        blocks,
        {
            "item": traced.key,
            "deliveries": [
                {
                    "package": one.delivery.package,
                    "version": one.delivery.version,
                    "at": one.at,
                    "run": one.run,
                    "by": one.account,
                }
                for one in traced.deliveries
            ],
            "claims": [{"package": c.package, "version": c.version, "custody": c.custody} for c in traced.claims],
            "edits": [_edit_json(change) for change in traced.edits],
        },
        f"amphora edits {name}" if traced.edits else f"amphora history {latest.run}",
    )


def edits_result(environment: str, edits: Sequence[Edited], made: str = "", dockets: Sequence[str] = ()) -> Result:
    """What was edited in an environment since the last delivery; `made` is the package that carries it back."""
    blocks: list[Block] = []
    for one in edits:
        who = f"by {one.listed.modified_by or 'somebody'}, {one.listed.modified_at or ''}" if one.listed else "gone"
        title = f"{one.title} ({readable(one.key)}), {who}"
        if one.listed is None:
            blocks.append(Lines([Cell("It was removed there.", "bad")], title))
        elif one.changes:
            blocks.append(edits_grid(one.changes, title))
            blocks += text_lines(one.changes, ("as delivered", "now"))
        else:
            blocks.append(Lines([Cell("Unpublished edits lie there.", "warn")], title))
    verdict = (
        f"{counted(len(edits), 'item')} in {environment} edited since the packages in force delivered"
        f" {'it' if len(edits) == 1 else 'them'}."
        if edits
        else f"Nothing in {environment} was edited: all is as the packages in force delivered it."
    )
    after = "amphora history"
    if made:
        verdict += f" They are in {made}, to be carried back."
        after = f"amphora compare {made.rpartition('/')[2].removesuffix('.amphora')} ENVIRONMENT"
    elif dockets:
        verdict += f" What puts them back is in {', '.join(dockets)}."
        after = f"amphora import {dockets[0]}"
    elif edits:
        after = f"amphora edits {environment} --carry-back"
    return Result(
        "edits",
        verdict,
        "warn" if edits else "good",
        blocks,
        {
            "environment": environment,
            "package": made,
            "dockets": list(dockets),
            "items": [
                {
                    "key": one.key,
                    "by": one.listed.modified_by if one.listed else None,
                    "at": one.listed.modified_at if one.listed else None,
                    "is_there": one.listed is not None,
                    "changes": [_edit_json(change) for change in one.changes],
                }
                for one in edits
            ],
        },
        after,
        1 if edits and not made and not dockets else 0,
    )


def withdrawal_blocks(docket: Docket) -> list[Block]:
    """What a package no longer holds, or is withdrawn: by itself, with the rows at stake and what uses it."""
    words = {Fate.RETIRE: "retire", Fate.LET_GO: "let go", Fate.STAY: "stays"}
    tones = {Fate.RETIRE: "bad", Fate.LET_GO: "warn", Fate.STAY: "dim"}
    rows: list[Row] = [
        [
            Cell(words[one.fate], tones[one.fate]),  # type: ignore[arg-type]
            Cell(readable(one.key), "strong"),
            one.present.states.title + (" (there before)" if one.was_there else ""),
            f"{one.present.rows or 0:,}",
            Cell(", ".join(readable(user) for user in one.users) or "nothing", "dim"),
        ]
        for one in docket.retirements
    ]
    heading = "No longer in the package" if docket.actions else "Would be withdrawn"
    return [Grid(["", "item", "title", "rows", "used by"], rows, heading, right=(3,))] if rows else []


def withdrawal_result(docket: Docket, outcome: Outcome | None) -> Result:
    """A withdrawal, before or after it."""
    gone, free = len(docket.fated(Fate.RETIRE)), len(docket.fated(Fate.LET_GO))
    rows = sum(one.present.rows or 0 for one in docket.fated(Fate.RETIRE))
    what = f"{counted(gone, 'item')} to retire" + (f", {free} to let go" if free else "")
    what += f", {rows:,} rows at stake" if rows else ""
    verdict = f"Withdrawing {docket.package} from {docket.target}: {what}. Nothing was touched."
    if outcome:
        kept = f"; definitions and rows are kept in runs/{outcome.run.name}" if gone else ""
        verdict = f"Done: {docket.package} is withdrawn from {docket.target}, {gone} retired, {free} let go{kept}."
    return Result(
        "withdraw",
        verdict,
        "warn" if outcome is None else "good",
        withdrawal_blocks(docket),
        {
            "package": docket.package,
            "target": docket.target,
            "run": outcome.run.name if outcome else None,
            "items": [
                {"key": r.key, "fate": r.fate.value, "rows": r.present.rows or 0, "used_by": list(r.users)}
                for r in docket.retirements
            ],
        },
        f"amphora history {outcome.run.name}"
        if outcome
        else f"amphora withdraw {docket.package} {docket.target} --retire-all",
        0 if outcome else 1,
    )


def edits_grid(changes: Sequence[FieldChange], title: str) -> Grid:
    """Local edits: where, as delivered, as it is now."""
    rows: list[Row] = [[place_phrase(c.place), shown(c.target, 44), shown(c.package, 44)] for c in changes]
    return Grid(["where", "as delivered", "now"], rows, title)


def _edit_json(change: FieldChange) -> dict[str, object]:
    from amphora.core.form.bindings import MISSING

    sides = {"delivered": change.target, "now": change.package}
    return {"place": change.place, **{name: value for name, value in sides.items() if value is not MISSING}}
