"""The result of edits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.merge.merge import FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Json
from amphora.engine.edits import Edited
from amphora.engine.target_verdicts import of_edits
from amphora.render.beside import text_lines
from amphora.render.changes import in_words
from amphora.render.in_columns import in_columns
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row


def edits_result(
    environment: str,
    edits: Sequence[Edited],
    made: str = "",
    dockets: Sequence[str] = (),
    origin: str = "",
    has_packages: bool = True,
) -> Result:
    """What was edited in an environment since the last delivery; `made` is the package that carries it back, to its
    `origin`; `has_packages` tells whether any is in force there."""
    blocks: list[Block] = []
    for one in edits:
        who = f"by {one.who or 'somebody'}{f', {one.at}' if one.at else ''}" if one.listed else "gone"
        title = f"{one.title} ({readable(one.key)}), {who}{', handed over' if one.is_handed_over else ''}"
        if one.listed is None:
            blocks.append(Lines([Cell("It was removed there.", "bad")], title))
        elif one.changes:
            blocks.append(edits_grid(one.changes, title, one.delivery.base.bindings))
            blocks += text_lines(one.changes, ("as delivered", "now"), one.delivery.base.bindings)
        else:
            blocks.append(Lines([Cell("Unpublished edits lie there.", "warn")], title))
    return Result.of(
        "edits",
        of_edits(environment, edits, made, dockets, origin, has_packages),
        blocks,
        {
            "environment": environment,
            "package": made,
            "dockets": list(dockets),
            "items": [
                {
                    "key": one.key,
                    "by": one.who if one.listed else None,
                    "at": one.at if one.listed else None,
                    "is_there": one.listed is not None,
                    "handed_over": one.is_handed_over,
                    "changes": [edit_json(change) for change in one.changes],
                }
                for one in edits
            ],
        },
    )


def edits_grid(changes: Sequence[FieldChange], title: str, named: Mapping[Key, Json] | None = None) -> Grid:
    """Local edits: where, as delivered, as it is now; `named` is what needs were called when it was delivered."""
    rows: list[Row] = [
        [place_phrase(c.place), *in_columns([c.target, c.package], lambda value: in_words(value, named or {}))]
        for c in changes
    ]
    return Grid(["where", "as delivered", "now"], rows, title)


def edit_json(change: FieldChange) -> dict[str, object]:
    sides = {"delivered": change.target, "now": change.package}
    return {"place": change.place, **{name: value for name, value in sides.items() if value is not MISSING}}
