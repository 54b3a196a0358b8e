"""Results of map."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher

from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Json
from amphora.core.values.next_step import to_type
from amphora.core.values.words import counted
from amphora.engine.map import Doubt, Rewriting
from amphora.engine.verdicts import of_mapping, still_open
from amphora.render.changes import mapped_json, mapped_row
from amphora.render.result import MOST_ROWS, Block, Cell, Grid, Lines, Result, Row, cut_grid, cut_lines, shown

MOST_OFFERS = 15
"""So many things on offer are read before somebody looks for one by name."""


def map_result(
    contents: Contents,
    mapped: Mapping[str, Sequence[Mapped]],
    file: str,
    changed: int,
    doubts: Sequence[Doubt] = (),
    there: Mapping[Key, Json] | None = None,
    gone: Sequence[str] = (),
) -> Result:
    """How far the mapping is, for each environment."""
    blocks: list[Block] = [
        cut_grid(
            Grid(
                ["need", "name", f"in {contents.source}", "", "value", "", "used by"],
                # What waits for somebody comes first where the list is too long to be read.
                [mapped_row(one, (there or {}).get(one.need.key)) for one in _by_urgency(rows)],
                name,
                spare=(6, 5, 2),
            ),
            f"{file}, or --json",
        )
        for name, rows in mapped.items()
        if rows
    ]
    if gone:
        blocks.append(Lines(cut_lines([f"- {line}" for line in gone], "--json"), "Replaced"))
    if doubts:
        rows: list[Row] = [[Cell(doubt.row, "strong"), doubt.words] for doubt in doubts]
        blocks.append(cut_grid(Grid(["row", "what is odd about it"], rows, file), "--json"))
    still = still_open([one for rows in mapped.values() for one in rows])
    if still:
        first = still[0].environment
        if offers := _nearest([one for one in still if one.environment == first]):
            lines = [f"- {offer}" for offer in offers[:MOST_OFFERS]]
            more = len(offers) - MOST_OFFERS
            lines += [f"- … and {more:,} more, less like them: --json"] if more > 0 else []
            blocks.append(Lines(lines, f"On offer in {first}"))
        blocks.append(Lines([Cell(f"Or write the values into {file}, by hand.", "dim")]))
    return Result.of(
        "map",
        of_mapping(contents, mapped),
        blocks,
        {
            "package": contents.title,
            "file": file,
            "cells_written": changed,
            "replaced": list(gone),
            "needs": [mapped_json(one) for rows in mapped.values() for one in rows],
            "doubts": [{"row": doubt.row, "what": doubt.words} for doubt in doubts],
        },
    )


def _by_urgency(rows: Sequence[Mapped]) -> Sequence[Mapped]:
    waiting = {one.need.key for one in still_open(rows)}
    return rows if len(rows) <= MOST_ROWS else sorted(rows, key=lambda one: one.need.key not in waiting)


def _nearest(still: Sequence[Mapped]) -> list[str]:
    """What is on offer for these needs, what is called most like one of them first, if there is much."""
    offers = list(dict.fromkeys(offer for one in still for offer in one.on_offer))
    if len(offers) <= MOST_OFFERS:
        return offers
    names = [row_name(one.need.key).lower() for one in still[:MOST_ROWS]]
    return sorted(
        offers, key=lambda offer: -max(SequenceMatcher(None, offer.lower(), name).ratio() for name in names)
    )


def texts_result(contents: Contents, environment: str, rewritings: Sequence[Rewriting]) -> Result:
    """The texts in which something is rewritten, before and after."""
    blocks: list[Block] = []
    for one in rewritings:
        rows: list[Row] = [[Cell(str(line), "dim"), Cell(was, "dim"), will_be] for line, was, will_be in one.lines]
        title = f"{one.title}, {place_phrase(one.place)}"
        blocks.append(Grid(["line", f"in {contents.source}", f"in {environment}"], rows, title))
    places = counted(len(rewritings), "text")
    return Result(
        "map --texts",
        f"{places} of {contents.title} would be rewritten for {environment}; nothing else in them changes.",
        "good",
        blocks,
        {
            "texts": [
                {
                    "item": one.key,
                    "place": one.place,
                    "lines": [{"line": n, "before": was, "after": after} for n, was, after in one.lines],
                }
                for one in rewritings
            ]
        },
        to_type("compare", contents.spoken, environment),
    )


def offered(mapped: Mapped) -> list[str]:
    """A need with what is on offer for it, in lines, to be asked about."""
    lines = [f"{mapped.need.kind} {row_name(mapped.need.key)!r} in {mapped.environment}"]
    if mapped.state is MapState.GUESSED:
        lines.append(f"  perhaps {shown(mapped.value, 60)}: {mapped.reason}")
    lines += [f"  on offer: {offer}" for offer in mapped.on_offer]
    return lines
