"""Results of survey and uses."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from amphora.core.form.kinds import Sheets
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.selection import spoken
from amphora.core.values.keys import Key, decode_segment, path_of, readable
from amphora.core.values.model import Json, Listed
from amphora.core.values.next_step import NextStep, blank, to_type
from amphora.core.values.words import counted
from amphora.engine.survey import Surveyed, Uses
from amphora.files.names import name_for
from amphora.render.csv_text import csv_text
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_grid

DEEPEST = 12
"""So many steps are shown as an indented list where nobody says how many: deeper, it is wider than any screen."""


def survey_result(
    environment: str, rows: Sequence[Surveyed], sheets: Sheets, is_part: bool, is_tree: bool, has_sizes: bool = False
) -> Result:
    """What is in an environment, as a list or by folders."""
    kinds = Counter(row.listed.kind for row in rows)
    drafts = sum(row.listed.has_draft for row in rows)
    # By what the environment calls them: it is its own words that people look for.
    names = {kind: (sheets[kind].singular, sheets[kind].plural) for kind in kinds}
    what = ", ".join(counted(number, *names[kind]) for kind, number in sorted(kinds.items()))
    edits = f"; {drafts} with unpublished edits" if drafts else ""
    empty = f"Nothing in {environment} is like that." if is_part else f"{environment} is empty."
    verb = "shows" if is_part else "holds"
    block: Block = _tree(rows) if is_tree else _list(rows, has_sizes)
    return Result(
        "survey",
        f"{environment} {verb} {counted(len(rows), 'item')}: {what}{edits}." if rows else empty,
        blocks=[block] if rows else [],
        data={"environment": environment, "items": [_json(row) | _form(row) for row in rows]},
        next_step=_after(environment, rows, sheets, is_part),
    )


def _after(environment: str, rows: Sequence[Surveyed], sheets: Sheets, is_part: bool) -> NextStep:
    """What to do next. Where something is there the line can be pasted as it is: it names an item."""
    if rows:
        return to_type("export", environment, *_suggested(rows, sheets, is_part))
    return to_type("survey", environment) if is_part else to_type("import", blank("PACKAGE"), environment)


def survey_csv(rows: Sequence[Surveyed]) -> str:
    """The survey as CSV (RFC 4180), one line an item."""
    table = [_json(row) for row in rows]
    return csv_text(list(table[0]) if table else ["key"], [list(row.values()) for row in table])


def _list(rows: Sequence[Surveyed], has_sizes: bool) -> Grid:
    table: list[Row] = [
        [
            Cell(readable(row.key), "strong"),
            _titled(row),
            state_cell(row.listed),
            "" if row.listed.rows is None else f"{row.listed.rows:,}",
            *([f"{row.size_bytes / 1000:,.1f} kB"] if has_sizes else []),
            str(row.uses or ""),
            str(row.used_by or ""),
            Cell(_moment(row.listed), "dim"),
            Cell(row.listed.modified_by or "", "dim"),
        ]
        for row in rows
    ]
    headings = [
        "item",
        "title",
        "state",
        "rows",
        *(["size"] if has_sizes else []),
        "uses",
        "used by",
        "changed",
        "last edited by",
    ]
    last = len(headings) - 1
    # What is given up first in a narrow window: who and when before what.
    spare = (last, last - 1, last - 2, last - 3, 3)
    return Grid(headings, table, right=(3, 4, 5, 6) if has_sizes else (3, 4, 5), spare=spare)


def _titled(row: Surveyed) -> str:
    """The title; with the folder where the item is no longer where its key has it."""
    folder, title = "/".join(row.listed.segments[:-1]), row.listed.states.title
    is_moved = folder != "/".join(map(decode_segment, path_of(row.key).split("/")[:-1]))
    return f"{title} (now in {folder or 'the top folder'})" if is_moved else title


def _tree(rows: Sequence[Surveyed]) -> Grid:
    """Folders, then what is in them: kind, title, state."""
    table: list[Row] = []
    shown: list[str] = []
    # By the parts of the path: as texts `a-b` would come between `a` and `a/c`.
    for row in sorted(rows, key=lambda row: (row.listed.states.folder.split("/"), row.listed.kind, row.key)):
        folder = [part for part in row.listed.states.folder.split("/") if part]
        common = 0
        while common < min(len(shown), len(folder)) and shown[common] == folder[common]:
            common += 1
        for depth in range(common, len(folder)):
            table.append([Cell("    " * depth + folder[depth], "strong"), "", "", "", ""])
        shown = folder
        rows_count = "" if row.listed.rows is None else counted(row.listed.rows, "row")
        table.append(
            [
                "    " * len(folder) + row.listed.states.title,
                Cell(row.listed.kind, "dim"),
                state_cell(row.listed),
                Cell(rows_count, "dim"),
                Cell(_moment(row.listed), "dim"),
            ]
        )
    return Grid([], table, right=(3,))


def state_cell(row: Listed) -> Cell:
    """Live, draft, on, off in words."""
    words = []
    # First, for such an item has a draft as well.
    if row.is_drafted_only:
        words.append("never published")
    elif row.has_draft:
        words.append("live, unpublished edits")
    elif row.states.is_published:
        words.append("live")
    # None is a kind that knows no switch: `off` would be untrue of it.
    if row.states.is_on is not None:
        words.append("on" if row.states.is_on else "off")
    return Cell(", ".join(words), "warn" if row.has_draft or row.is_drafted_only else "plain")


def _moment(row: Listed) -> str:
    return (row.modified_at or "")[:16].replace("T", " ")


def _suggested(rows: Sequence[Surveyed], sheets: Sheets, is_part: bool) -> tuple[str, ...]:
    """An item that people would begin with when they choose what to move, and what to call the package."""
    starts = {kind for kind, sheet in sheets.items() if sheet.is_start}
    # People begin with an app or a report; a table alone is rarely what they came for.
    titles = {row.key: row.listed.states.title for row in rows}
    first = ([row.key for row in rows if row.listed.kind in starts] or list(titles))[0]
    # Among some of them a title may look clear that is not.
    name = readable(first) if is_part else spoken(first, titles)
    return name, "--as", name_for(titles[first])


def _json(row: Surveyed) -> dict[str, object]:
    listed = row.listed
    return {
        "key": row.key,
        "title": listed.states.title,
        "folder": listed.states.folder,
        "native_id": listed.native_id,
        "link": listed.link,
        "on": listed.states.is_on,
        "published": listed.states.is_published,
        "draft": listed.has_draft,
        "rows": listed.rows,
        "size_bytes": row.size_bytes,
        "uses": row.uses,
        "used_by": row.used_by,
        "modified_at": listed.modified_at,
        "modified_by": listed.modified_by,
    }


def _form(row: Surveyed) -> dict[str, Json]:
    return {} if row.form is None else {"definition": row.form}


def uses_result(net: Uses, depth: int | None, figure: str) -> Result:
    """What an item uses, and what uses it, as indented lists with the places."""
    title = net.titles[net.start]
    ahead, back = net.reached(False, depth), net.reached(True, depth)
    direct, inverse = net.direct.get(net.start, {}), net.inverse().get(net.start, {})
    blocks: list[Block] = []
    for heading, backwards, reached in (("It uses", False, ahead), ("It is used by", True, back)):
        if len(reached) > 1:
            # Nobody reads an indentation of hundreds of columns.
            shown = depth or (DEEPEST if max(reached.values()) > DEEPEST else None)
            blocks.append(cut_grid(Grid([], _branches(net, backwards, shown), heading), "--json"))
            if shown != depth:
                words = f"Only {DEEPEST} of {max(reached.values()):,} steps are followed here: --depth N, or --json."
                blocks.append(Lines([Cell(words, "dim")]))
    blocks += [Lines([Cell(f"The figure is in {figure}.", "dim")])] if figure else []
    # All of them, however many are shown.
    used, users = (len(net.reached(backwards, None)) - 1 for backwards in (False, True))
    verdict = (
        f"{title} uses {counted(len(direct), 'item')} ({used} in all) and is used by"
        f" {counted(len(inverse), 'item')} ({users} in all) in {net.environment}."
    )
    data = {
        "environment": net.environment,
        "item": net.start,
        "uses": [_reach_json(net, key, steps) for key, steps in ahead.items() if steps],
        "used_by": [_reach_json(net, key, steps) for key, steps in back.items() if steps],
        "places": {key: list(places) for key, places in direct.items()},
    }
    return Result("uses", verdict, blocks=blocks, data=data, next_step=_next(net))


def _next(net: Uses) -> NextStep:
    name = name_for(net.titles[net.start])
    return to_type("export", net.environment, spoken(net.start, net.titles), "--as", name)


def _reach_json(net: Uses, key: Key, steps: int) -> dict[str, object]:
    return {"key": key, "title": net.titles[key], "steps": steps}


def _branches(net: Uses, backwards: bool, depth: int | None) -> list[Row]:
    """The net as a tree; an item that was shown before is not unfolded again."""
    links: Mapping[Key, Mapping[Key, Sequence[str]]] = net.inverse() if backwards else net.direct
    rows: list[Row] = []
    seen = {net.start}
    # What is still to be told of each level, and no function that calls itself: chains may be thousands long.
    levels = [iter(sorted(links.get(net.start, {}).items()))]
    while levels:
        level = len(levels) - 1
        if (found := next(levels[-1], None)) is None:
            levels.pop()
            continue
        other, places = found
        # Without anything below it `see above` would lead to nothing.
        is_known = other in seen and bool(links.get(other))
        where = place_phrase(places[0]) + (f" and {len(places) - 1} more" if len(places) > 1 else "")
        rows.append(
            [
                Cell("    " * level + readable(other), "plain" if is_known else "strong"),
                Cell(net.titles.get(other, ""), "plain"),
                Cell(("in it, at " if backwards else "at ") + where, "dim"),
                Cell("see above" if is_known else "", "dim"),
            ]
        )
        if other not in seen and (depth is None or level + 1 < depth):
            levels.append(iter(sorted(links.get(other, {}).items())))
        # Also where the depth ends: it is not unfolded at another place instead.
        seen.add(other)
    return rows
