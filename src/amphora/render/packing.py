"""Results of export, check and map."""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Mapping, Sequence

from amphora.core.crosswalk import Mapped, MapState, row_name
from amphora.core.model import Contents, Finding, Level, Listed
from amphora.core.selection import readable
from amphora.engine.exporting import ExportReport
from amphora.render.changes import (
    finding_json,
    findings_grid,
    mapped_json,
    mapped_row,
)
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, counted, titled

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
    if not report.has_attachments:
        notes.append(Cell("Attachments stay behind: the target keeps its own", "warn"))
    kinds = Counter(need.kind for need in contents.needs if need.kind in _SUPPLIED)
    if kinds:
        words = ", ".join(counted(number, *_SUPPLIED[kind]) for kind, number in kinds.items())
        notes.append(Cell(f"The target supplies: {words} (amphora peek {contents.name})", "dim"))
    if notes:
        blocks.append(Lines(notes, "To know"))
    return Result(
        "export",
        _export_verdict(report),
        "good",
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
            "crosswalk_rows": [[cell.section, cell.row, cell.column, cell.value] for cell in report.cells],
        },
        _export_words(report) if report.is_preview else f"amphora check {contents.name} {target}",
    )


def _export_verdict(report: ExportReport) -> str:
    contents = report.contents
    what = f"{counted(len(contents.items), 'item')} from {contents.source}"
    if report.is_preview and not report.is_unchanged:
        return f"Preview, nothing was written: {contents.title} would hold {what}."
    if report.is_unchanged:
        return f"Nothing changed since {contents.title}: {what}, in {report.shown_path}."
    return f"Packed {contents.title}: {what}, in {report.shown_path}."


def _export_words(report: ExportReport) -> str:
    """The command that does what was previewed."""
    words = ["amphora", "export", report.contents.source, *map(shlex.quote, report.asked)]
    words += ["--as", report.contents.name]
    words += [part for key in report.leave_out for part in ("--leave-out", shlex.quote(key))]
    words += ["--take", "draft"] if report.take == "draft" else []
    words += ["--with", "access"] if report.has_access else []
    words += ["--with", "records"] if report.has_records else []
    return " ".join(words + ([] if report.has_attachments else ["--without", "attachments"]))


def _draft(row: Listed) -> str:
    return f"{row.states.title} (by {row.modified_by}, {row.modified_at})"


def check_result(contents: Contents, findings: Mapping[str, Sequence[Finding]], strict: bool) -> Result:
    """Findings for each target ('' for the package by itself)."""
    everything = [finding for rows in findings.values() for finding in rows]
    errors = [finding for finding in everything if finding.level is Level.ERROR]
    to_map = [finding for finding in everything if finding.rule == "need-open"]
    warnings = [f for f in everything if f.level is Level.WARNING and f.rule != "need-open"]
    verdicts = [_verdict(contents, target, rows) for target, rows in findings.items()]
    blocks: list[Block] = []
    for target, rows in findings.items():
        if rows:
            blocks.append(titled(findings_grid(rows), target if len(findings) > 1 else ""))
    steps = list(dict.fromkeys(f.next_step for f in errors if f.next_step))
    if len(steps) > 1:
        blocks.append(Lines([f"- {step}" for step in steps], "What to do"))
    first = next(iter(findings))
    is_bad = bool(errors) or bool(strict and (warnings or to_map))
    after = f"amphora map {contents.name} {first}" if to_map and not errors else ""
    return Result(
        "check",
        " ".join(verdicts),
        "bad" if errors else "warn" if to_map or warnings else "good",
        blocks,
        {"package": contents.title, "findings": [finding_json(finding) for finding in everything]},
        after or (steps[0] if steps else f"amphora compare {contents.name} {first or 'ENVIRONMENT'}"),
        1 if is_bad else 0,
    )


def _verdict(contents: Contents, target: str, findings: Sequence[Finding]) -> str:
    errors = sum(finding.level is Level.ERROR for finding in findings)
    missing = sum(finding.rule == "item-missing" and finding.level is Level.ERROR for finding in findings)
    to_map = sum(finding.rule == "need-open" for finding in findings)
    warnings = sum(f.level is Level.WARNING and f.rule != "need-open" for f in findings)
    parts = [f"{counted(missing, 'item')} missing"] if missing else []
    parts += [counted(errors - missing, "other error" if missing else "error")] if errors > missing else []
    parts += [f"{to_map} to map"] if to_map else []
    parts += [counted(warnings, "warning")] if warnings else []
    if not target:
        return f"{contents.title} by itself: {', '.join(parts) or 'nothing amiss'}."
    if errors or to_map:
        return f"Not yet for {target}: {', '.join(parts)}."
    return f"{contents.title} can go to {target}{': ' + ', '.join(parts) if parts else ''}."


def _answers(open_ones: Sequence[Mapped]) -> str:
    """The options that would answer what is open."""
    words = " --accept" if any(one.state is MapState.GUESSED for one in open_ones) else ""
    names = dict.fromkeys(row_name(one.need.key) for one in open_ones if one.state is MapState.OPEN)
    return words + "".join(f" --set {shlex.quote(name)}=…" for name in names)


def map_result(contents: Contents, mapped: Mapping[str, Sequence[Mapped]], file: str, changed: int) -> Result:
    """How far the mapping is, for each environment."""
    everything = [one for rows in mapped.values() for one in rows if one.need.kind != "secret"]
    open_ones = [one for one in everything if one.state is not MapState.MAPPED]
    blocks: list[Block] = [
        Grid(["need", "name", "", "value", "", "used by"], [mapped_row(one) for one in rows], name, spare=(5, 4))
        for name, rows in mapped.items()
    ]
    names = " ".join(mapped)
    guessed = sum(one.state is MapState.GUESSED for one in everything)
    if open_ones:
        verdict = (
            f"{len(open_ones)} of {len(everything)} needs of {contents.title} are still to be mapped for {names}"
        )
        verdict += f", {guessed} of them guessed." if guessed else "."
        after = f"amphora map {contents.name} {names}{_answers(open_ones)}"
        blocks.append(Lines([Cell(f"Or write the values into {file}, by hand.", "dim")]))
    else:
        verdict = f"All {len(everything)} needs of {contents.title} are mapped for {names}."
        after = f"amphora compare {contents.name} {next(iter(mapped))}"
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
        },
        after,
        1 if open_ones else 0,
    )
