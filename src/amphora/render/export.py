"""Results of export."""

from __future__ import annotations

from collections import Counter

from amphora.core.values.keys import readable
from amphora.core.values.model import Listed
from amphora.core.values.words import begun, counted, every, few
from amphora.engine.export import ExportReport
from amphora.engine.verdicts import of_export
from amphora.engine.versions import Growth
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_grid

_SUPPLIED = {
    "connection": ("connection", "connections"),
    "setting": ("setting", "settings"),
    "person": ("person or group", "people or groups"),
}


def export_result(report: ExportReport, target: str) -> Result:
    """A package was made, or nothing had changed."""
    contents = report.contents
    rows: list[Row] = [
        [Cell(readable(key), "strong"), item.states.title, Cell(report.why[key], "dim")]
        for key, item in sorted(
            contents.items.items(), key=lambda pair: (report.why[pair[0]] != "asked for", pair[0])
        )
    ]
    blocks: list[Block] = [cut_grid(Grid(["item", "title", "why it is in"], rows, spare=(1,)), "--json")]
    if report.growth:
        blocks = _growth_blocks(report, report.growth)
    if report.is_unchanged:
        blocks = []
    notes: list[Cell | str] = [
        Cell(f"Unpublished edits not taken: {_draft(row)}", "warn") for row in report.drafts if report.take == "live"
    ]
    notes += [
        Cell(f"No longer in {contents.source}, and out of the selection: {readable(name)}", "warn")
        for name in report.gone
    ]
    # Counted and not listed: nobody misses them, but nothing is left out without a word.
    if report.dead:
        words = counted(sum(map(len, report.dead.values())), "id that leads", "ids that lead")
        holders = counted(len(report.dead), "item", "items")
        notes.append(Cell(f"Left out: {words} nowhere in {contents.source}, of {holders} (--json)", "dim"))
    notes += [Cell(f"Stays at home: {readable(key)}", "warn") for key in report.left_out]
    notes += [
        Cell(f"Does not travel: {need.kind} {readable(need.key).partition(':')[2]}", "dim")
        for need in contents.needs
        if need.kind == "secret"
    ]
    notes += _rows_lines(report)
    for key, where in report.dropped.items():
        meaning = f"; the next import into {', '.join(where)} lists it for retirement" if where else ""
        notes.append(Cell(f"No longer in it: {readable(key)}{meaning}", "warn"))
    if not report.has_attachments:
        notes.append(Cell("Attachments stay behind: the target keeps its own", "warn"))
    kinds = Counter(need.kind for need in contents.needs if need.kind in _SUPPLIED)
    if kinds:
        words = ", ".join(counted(number, *_SUPPLIED[kind]) for kind, number in kinds.items())
        notes.append(Cell(f"The target supplies: {words} (peek names each)", "dim"))
    if notes:
        blocks.append(Lines(notes, "To know"))
    return Result.of(
        "export",
        of_export(report, target),
        blocks,
        {
            "package": contents.name,
            "version": contents.version,
            "file": str(report.path),
            "package_digest": report.package_digest,
            "contents_digest": report.contents_digest,
            "unchanged": report.is_unchanged,
            "preview": report.is_preview,
            "why": dict(report.why),
            "left_out": list(report.left_out),
            "gone": list(report.gone),
            "dead": {key: list(places) for key, places in report.dead.items()},
            "dropped": {key: list(where) for key, where in report.dropped.items()},
            "since": report.growth.since if report.growth else None,
            "new": list(report.growth.new) if report.growth else [],
            "changed": dict(report.growth.changed) if report.growth else {},
            "rows": dict(report.rows),
            "carries_rows": report.has_records,
            "crosswalk_rows": [[cell.section, cell.row, cell.column, cell.value] for cell in report.cells],
        },
    )


def _growth_blocks(report: ExportReport, growth: Growth) -> list[Block]:
    """What changed since the version before; all the rest in one line."""
    contents = report.contents
    rows: list[Row] = [
        [Cell("new", "good"), Cell(readable(key), "strong"), contents.items[key].states.title, report.why[key]]
        for key in growth.new
    ]
    rows += [
        [Cell("changed", "warn"), Cell(readable(key), "strong"), contents.items[key].states.title, what]
        for key, what in growth.changed.items()
    ]
    rows += [[Cell("gone", "bad"), Cell(readable(key), "strong"), "", ""] for key in growth.gone]
    blocks: list[Block] = []
    if rows:
        grid = Grid(["", "item", "title", "what"], rows, f"Since {growth.since}", spare=(2,))
        blocks.append(cut_grid(grid, "--json"))
    same = len(contents.items) - len(growth.new) - len(growth.changed)
    alone = begun(f"{every(same, 'item')} {'is' if same == 1 else 'are'}")
    others = counted(same, "other is", "others are") if rows else alone
    lines: list[Cell | str] = [f"It is {growth.why(contents.version)}."]
    if same:
        lines.append(Cell(f"{others} as in {growth.since} (peek lists all).", "dim"))
    return [*blocks, Lines(lines)]


def _rows_lines(report: ExportReport) -> list[Cell | str]:
    """Which rows go along, and which don't."""
    if not report.rows:
        return [Cell("No rows: nothing of it holds any", "warn")] if report.has_records else []
    titles = {key: report.contents.items[key].states.title for key in report.rows}
    told = few([f"{count:,} of {titles[key]}" for key, count in report.rows.items()], 6)
    if report.has_records:
        return [Cell(f"Rows that go along: {told}", "warn")]
    return [Cell(f"Rows that stay behind: {told} (--with records takes them along)", "dim")]


def _draft(row: Listed) -> str:
    return f"{row.states.title} (by {row.modified_by or 'somebody'}, {row.modified_at or 'nobody knows when'})"
