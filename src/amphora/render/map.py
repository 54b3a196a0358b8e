"""Results of map."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.values.model import Contents
from amphora.core.values.next_step import open_value, to_type
from amphora.engine.map import Doubt, Rewriting
from amphora.render.changes import mapped_json, mapped_row, place_phrase
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, counted, shown

DONE = (MapState.MAPPED, MapState.LATER)


def map_result(
    contents: Contents,
    mapped: Mapping[str, Sequence[Mapped]],
    file: str,
    changed: int,
    doubts: Sequence[Doubt] = (),
) -> Result:
    """How far the mapping is, for each environment."""
    everything = [one for rows in mapped.values() for one in rows if one.need.kind != "secret"]
    open_ones = [one for one in everything if one.state not in DONE]
    later = [one for one in everything if one.state is MapState.LATER]
    blocks: list[Block] = [
        Grid(["need", "name", "", "value", "", "used by"], [mapped_row(one) for one in rows], name, spare=(5, 4))
        for name, rows in mapped.items()
    ]
    if doubts:
        rows: list[Row] = [[Cell(doubt.row, "strong"), doubt.words] for doubt in doubts]
        blocks.append(Grid(["row", "what is odd about it"], rows, file))
    names = " and ".join(mapped)
    first = open_ones[0].environment if open_ones else next(iter(mapped))
    offers = list(dict.fromkeys(offer for one in open_ones if one.environment == first for offer in one.on_offer))
    guessed = sum(one.state is MapState.GUESSED for one in everything)
    if open_ones:
        verdict = (
            f"{len(open_ones)} of {counted(len(everything), 'need')} of {contents.title} to be mapped for {names}"
        )
        verdict += f", {guessed} of them guessed." if guessed else "."
        mine = [one for one in open_ones if one.environment == first]
        after = to_type("map", contents.name, first, *_answers(mine))
        if offers:
            blocks.append(Lines([f"- {offer}" for offer in offers], f"On offer in {first}"))
        blocks.append(Lines([Cell(f"Or write the values into {file}, by hand.", "dim")]))
    else:
        verdict = f"All {len(everything)} needs of {contents.title} are mapped for {names}"
        verdict += f", {len(later)} in a pause of the import." if later else "."
        after = to_type("compare", contents.name, next(iter(mapped)))
    return Result(
        "map",
        verdict,
        "warn" if open_ones else "good",
        blocks,
        {
            "package": contents.title,
            "file": file,
            "cells_written": changed,
            "needs": [mapped_json(one) for rows in mapped.values() for one in rows],
            "doubts": [{"row": doubt.row, "what": doubt.words} for doubt in doubts],
        },
        after,
        1 if open_ones else 0,
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
        to_type("compare", contents.name, environment),
    )


def _answers(open_ones: Sequence[Mapped]) -> list[str]:
    """The options that would answer what is open."""
    words = ["--accept"] if any(one.state is MapState.GUESSED for one in open_ones) else []
    names = dict.fromkeys(row_name(one.need.key) for one in open_ones if one.state is MapState.OPEN)
    return words + [word for name in names for word in ("--set", open_value(name))]


def offered(mapped: Mapped) -> list[str]:
    """A need with what is on offer for it, in lines, to be asked about."""
    lines = [f"{mapped.need.kind} {row_name(mapped.need.key)!r} in {mapped.environment}"]
    if mapped.state is MapState.GUESSED:
        lines.append(f"  perhaps {shown(mapped.value, 60)}: {mapped.reason}")
    lines += [f"  on offer: {offer}" for offer in mapped.on_offer]
    return lines
