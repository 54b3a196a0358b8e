"""Results of check: grouped by what has to be done, for people, for other people, and for machines."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import groupby

from amphora.core.checks import RULES, Rule, Todo, todo_of
from amphora.core.needs.selection import readable
from amphora.core.plan.gate import Reason, Why
from amphora.core.values.model import Contents, Finding, Level
from amphora.core.values.next_step import NOTHING, NextStep, blank, to_type
from amphora.render.changes import finding_json, place_phrase
from amphora.render.imports import reason_blocks, reasons_json
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, counted, cut_grid

TONE: dict[Level, Tone] = {Level.ERROR: "bad", Level.WARNING: "warn", Level.NOTE: "dim"}
_ORDER = list(Todo)
TO_MAP = "need-open"


def check_result(
    contents: Contents,
    findings: Mapping[str, Sequence[Finding]],
    is_strict: bool,
    fixed: Sequence[str] = (),
    fix: NextStep = NOTHING,
    reasons: Mapping[str, Sequence[Reason]] | None = None,
) -> Result:
    """Findings for each target ('' for the package by itself), and what an import would stop at. `fixed` are lines
    on what `--fix` did."""
    ways = {t: [r for r in rows if not _is_told(r, findings.get(t, ()))] for t, rows in (reasons or {}).items()}
    is_closed = any((reasons or {}).values())
    everything = [finding for rows in findings.values() for finding in rows]
    blocks: list[Block] = [Lines([Cell(line, "good") for line in fixed], "Done by --fix")] if fixed else []
    blocks += _blocks(findings)
    for rows in ways.values():
        blocks += reason_blocks(rows)
    levels = {finding.level for finding in everything}
    worst: Tone = "bad" if Level.ERROR in levels else "warn" if Level.WARNING in levels else "good"
    worst = "bad" if is_closed else worst
    return Result(
        "check",
        " ".join(verdict(contents, target, rows, ways.get(target, ())) for target, rows in findings.items()),
        worst,
        blocks,
        {
            "package": contents.title,
            "findings": [finding_json(finding) for finding in everything],
            "in_the_way": {target: reasons_json(rows) for target, rows in (reasons or {}).items()},
        },
        _next(contents, findings, fix, [reason for rows in ways.values() for reason in rows]),
        3 if worst == "bad" else 1 if is_strict and worst == "warn" else 0,
    )


_TOLD: Mapping[Why, tuple[str, ...]] = {
    Why.NEED: (TO_MAP,),
    Why.PAUSE: ("need-later",),
    Why.PERMISSION: ("permission-missing",),
    Why.TAKEN: ("name-taken",),
    Why.UNKNOWN: ("kind-unknown", "schema-other"),
}
"""Reasons that findings tell of as well, unless somebody silenced those."""


def _is_told(reason: Reason, findings: Sequence[Finding]) -> bool:
    rules = _TOLD.get(reason.why, ())
    return reason.why is Why.FINDING or any(finding.rule in rules for finding in findings)


def verdict(contents: Contents, target: str, findings: Sequence[Finding], ways: Sequence[Reason] = ()) -> str:
    """Whether it can go there, in one sentence."""
    errors = sum(_is_error(finding) for finding in findings)
    missing = sum(finding.rule == "item-missing" and _is_error(finding) for finding in findings)
    to_map = sum(finding.rule == TO_MAP for finding in findings)
    pauses = sum(finding.rule == "need-later" for finding in findings)
    warnings = sum(f.level is Level.WARNING and f.rule != TO_MAP for f in findings)
    parts = [f"{counted(missing, 'item')} missing"] if missing else []
    parts += [counted(errors - missing, "other error" if missing else "error")] if errors > missing else []
    parts += [f"{to_map} to map"] if to_map else []
    parts += [counted(warnings, "warning")] if warnings else []
    parts += ["a pause for set-up"] if pauses else []
    if not target:
        return f"{contents.title} by itself: {', '.join(parts) or 'nothing amiss'}."
    parts += list(dict.fromkeys(reason.why.value for reason in ways))
    if errors or to_map or ways:
        return f"Not yet for {target}: {', '.join(parts)}."
    return f"{contents.title} can go to {target}{': ' + ', '.join(parts) if parts else ''}."


def rules_result(levels: Mapping[str, str]) -> Result:
    """Every rule, with what it finds; `levels` are those that the workspace has set otherwise."""
    blocks: list[Block] = []
    for family, rules in groupby(RULES.values(), key=lambda rule: rule.family):
        rows: list[Row] = [
            [Cell(rule.name, "strong"), _level_cell(rule, levels), rule.finds, Cell(rule.todo.value, "dim")]
            for rule in rules
        ]
        blocks.append(Grid(["rule", "counts as", "what it finds", "what to do"], rows, family, spare=(2, 3)))
    data = [
        {
            "rule": rule.name,
            "family": rule.family,
            "level": levels.get(rule.name, rule.level.value),
            "finds": rule.finds,
            "why": rule.why,
            "todo": rule.todo.value,
        }
        for rule in RULES.values()
    ]
    changed = f", {counted(len(levels), 'of them', 'of them')} set otherwise by this workspace" if levels else ""
    return Result("check --rules", f"{len(RULES)} rules{changed}.", "good", blocks, {"rules": data})


def check_markdown(contents: Contents, findings: Mapping[str, Sequence[Finding]]) -> str:
    """The findings as a Markdown document, for a ticket or a merge request."""
    lines = [f"# Check of {contents.title}", ""]
    for target, rows in findings.items():
        lines += [f"**{_escaped(verdict(contents, target, rows))}**", ""]
        for todo, group in _grouped(rows):
            lines += [f"## {_heading(todo)}{f' ({target})' if target else ''}", ""]
            lines += ["| level | what | where | rule |", "|---|---|---|---|"]
            for finding in group:
                cells = [_level_word(finding), finding.message, _where(finding), f"`{finding.rule}`"]
                lines.append("| " + " | ".join(_escaped(cell) for cell in cells) + " |")
            lines.append("")
            for step in _steps(group):
                lines += [f"    {step}", ""]
    return "\n".join(lines).rstrip() + "\n"


def _blocks(findings: Mapping[str, Sequence[Finding]]) -> Iterable[Block]:
    for target, rows in findings.items():
        where = f"{target}: " if len(findings) > 1 else ""
        for todo, group in _grouped(rows):
            cells: list[Row] = [
                [Cell(_level_word(f), TONE[f.level]), f.message, Cell(_where(f), "dim"), Cell(f.rule, "dim")]
                for f in group
            ]
            heading = f"{where}{_heading(todo)}"
            if any(finding.item for finding in group):
                yield cut_grid(
                    Grid(["", "what", "where", "rule"], cells, heading, spare=(2, 3)), "--json, or --sarif FILE"
                )
            else:
                yield Grid(["", "what", "rule"], [[row[0], row[1], row[3]] for row in cells], heading, spare=(2,))
            if steps := _steps(group):
                yield Lines([Cell(f"  {step}", "strong") for step in steps])


def _grouped(findings: Sequence[Finding]) -> list[tuple[Todo, list[Finding]]]:
    groups: dict[Todo, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(todo_of(finding), []).append(finding)
    return [(todo, groups[todo]) for todo in _ORDER if todo in groups]


def _heading(todo: Todo) -> str:
    return todo.value[0].upper() + todo.value[1:]


def _steps(findings: Sequence[Finding]) -> list[NextStep]:
    return list(dict.fromkeys(finding.next_step for finding in findings if finding.next_step))


def _where(finding: Finding) -> str:
    if not finding.item:
        return ""
    place = f" at {place_phrase(finding.phrase)}" if finding.phrase else ""
    return f"{readable(finding.item)}{place}"


def _level_word(finding: Finding) -> str:
    return "to map" if finding.rule == TO_MAP else finding.level.value


def _level_cell(rule: Rule, levels: Mapping[str, str]) -> Cell:
    level = Level(levels.get(rule.name, rule.level.value))
    return Cell(f"{level.value}{' (set)' if rule.name in levels else ''}", TONE[level])


def _is_error(finding: Finding) -> bool:
    return finding.level is Level.ERROR


def _next(
    contents: Contents, findings: Mapping[str, Sequence[Finding]], fix: NextStep, ways: Sequence[Reason]
) -> NextStep:
    everything = [finding for rows in findings.values() for finding in rows]
    targets = [target for target in findings if target]
    errors = [finding for finding in everything if _is_error(finding)]
    if any(finding.rule == "item-missing" for finding in errors) and targets and fix:
        return fix
    unmapped = [t for t, rows in findings.items() if t and any(f.rule == TO_MAP for f in rows)]
    steps = _steps(errors)
    if errors:
        return steps[0] if steps else to_type("check", contents.name, *targets)
    if unmapped:
        return to_type("map", contents.name, *unmapped)
    if ways and ways[0].next_step:
        return ways[0].next_step
    return to_type("compare", contents.name, targets[0] if targets else blank("ENVIRONMENT"))


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;").replace("\n", " ")
