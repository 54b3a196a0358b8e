"""Results of export."""

from __future__ import annotations

from collections import Counter

from amphora.core.values.keys import readable
from amphora.core.values.model import Listed
from amphora.core.values.words import counted
from amphora.engine.export import ExportReport
from amphora.engine.verdicts import of_export
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row

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
    blocks: list[Block] = [Grid(["item", "title", "why it is in"], rows, spare=(1,))]
    notes = [
        Cell(f"Unpublished edits not taken: {_draft(row)}", "warn") for row in report.drafts if report.take == "live"
    ]
    notes += [Cell(f"Stays at home: {readable(key)}", "warn") for key in report.left_out]
    notes += [
        Cell(f"Does not travel: {need.kind} {readable(need.key).partition(':')[2]}", "dim")
        for need in contents.needs
        if need.kind == "secret"
    ]
    for key, where in report.dropped.items():
        meaning = f"; the next import into {', '.join(where)} lists it for retirement" if where else ""
        notes.append(Cell(f"No longer in it: {readable(key)}{meaning}", "warn"))
    if not report.has_attachments:
        notes.append(Cell("Attachments stay behind: the target keeps its own", "warn"))
    kinds = Counter(need.kind for need in contents.needs if need.kind in _SUPPLIED)
    if kinds:
        words = ", ".join(counted(number, *_SUPPLIED[kind]) for kind, number in kinds.items())
        notes.append(Cell(f"The target supplies: {words} (amphora peek {contents.name})", "dim"))
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
            "dropped": {key: list(where) for key, where in report.dropped.items()},
            "crosswalk_rows": [[cell.section, cell.row, cell.column, cell.value] for cell in report.cells],
        },
    )


def _draft(row: Listed) -> str:
    return f"{row.states.title} (by {row.modified_by}, {row.modified_at})"
