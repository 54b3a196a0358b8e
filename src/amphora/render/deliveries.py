"""The result of deliveries."""

from __future__ import annotations

from amphora.core.values.keys import readable
from amphora.core.values.next_step import to_type
from amphora.core.values.words import counted
from amphora.engine.deliveries import Traced
from amphora.render.edits import edit_json, edits_grid
from amphora.render.result import Block, Cell, Grid, Result, Row


def deliveries_result(traced: Traced) -> Result:
    """Who delivered an item when, whose claim it is, and what happened since."""
    title, name = traced.listed.states.title, traced.environment
    if not traced.deliveries:
        return Result(
            "deliveries",
            f"{title!r} was never delivered into {name} by Amphora.",
            data={
                "environment": name,
                "item": traced.key,
                "there": True,
                "deliveries": [],
                "claims": [],
                "edits": [],
            },
            next_step=to_type("uses", name, readable(traced.key)),
        )
    latest = traced.deliveries[0]
    rows: list[Row] = [
        [
            Cell("in force" if number == 0 and not traced.gone else "", "good"),
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
        blocks.append(edits_grid(traced.edits, f"Edited in {name} since", latest.delivery.base.bindings))
    since = f"; {counted(len(traced.edits), 'field')} edited there since" if traced.edits else "; not edited since"
    verb, since = ("was", f"; it is {traced.gone}") if traced.gone else ("is", since)
    packages = {one.delivery.package for one in traced.deliveries}
    others = f", also delivered by {', '.join(sorted(packages - {latest.delivery.package}))}"
    return Result(
        "deliveries",
        f"{title!r} in {name} {verb} that of {latest.delivery.package} {latest.delivery.version}"
        f"{others if len(packages) > 1 else ''}{since}.",
        "warn" if traced.edits or len(packages) > 1 or traced.gone else "good",
        blocks,
        {
            "environment": name,
            "item": traced.key,
            "there": not traced.gone,
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
            "edits": [edit_json(change) for change in traced.edits],
        },
        to_type("edits", name) if traced.edits or traced.gone else to_type("history", latest.run),
    )
