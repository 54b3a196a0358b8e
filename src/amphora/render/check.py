"""Results of check: grouped by what has to be done, for people, for other people, and for machines."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import groupby

from amphora.core.checks import RULES, Rule, Todo, todo_of
from amphora.core.merge.phrase import place_phrase
from amphora.core.plan.reasons import Reason
from amphora.core.values.keys import readable
from amphora.core.values.model import Contents, Finding, Level
from amphora.core.values.next_step import NOTHING, NextStep
from amphora.core.values.visible import visible
from amphora.core.values.words import begun, counted
from amphora.engine.verdicts import TO_MAP, can_go, of_check, steps_of, untold
from amphora.render.changes import finding_json
from amphora.render.imports import reason_blocks, reasons_json
from amphora.render.markdown import code, md
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, cut_grid, to_do

TONE: dict[Level, Tone] = {Level.ERROR: "bad", Level.WARNING: "warn", Level.NOTE: "dim"}
_ORDER = list(Todo)


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
    everything = [finding for rows in findings.values() for finding in rows]
    blocks: list[Block] = [Lines([Cell(line, "good") for line in fixed], "Done by --fix")] if fixed else []
    blocks += _blocks(findings)
    # Only what no finding says: the same thing told in two words would be counted as two.
    for rows in untold(findings, reasons or {}).values():
        blocks += reason_blocks(rows)
    return Result.of(
        "check",
        of_check(contents, findings, reasons or {}, fix, is_strict),
        blocks,
        {
            "package": contents.title,
            "findings": [finding_json(finding) for finding in everything],
            "in_the_way": {target: reasons_json(rows) for target, rows in (reasons or {}).items()},
        },
    )


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
    lines = [f"# Check of {md(contents.title)}", ""]
    for target, rows in findings.items():
        lines += [f"**{md(can_go(contents, target, rows))}**", ""]
        for todo, group in _grouped(rows):
            lines += [f"## {_heading(todo)}{f' ({md(target)})' if target else ''}", ""]
            lines += ["| level | what | where | rule |", "|---|---|---|---|"]
            for finding, where in _alike(group):
                cells = [md(_level_word(finding)), md(finding.message), md(where), code(finding.rule)]
                lines.append("| " + " | ".join(cells) + " |")
            lines.append("")
            for step in steps_of(group):
                lines += [f"    {visible(str(step))}", ""]
    return "\n".join(lines).rstrip() + "\n"


def _shared(findings: Mapping[str, Sequence[Finding]]) -> Iterable[tuple[str, list[Finding], list[Finding]]]:
    """The findings by heading, and all those whose next steps belong there: what the targets share stands once,
    before what each has to itself, and each of them may need a step of its own."""
    every = [finding for rows in findings.values() for finding in rows]
    # Nothing can be shared by one; its name in every heading would be noise.
    if len(findings) < 2:
        yield "", every, every
        return

    def bare(finding: Finding) -> tuple[str, ...]:
        # But for the target's own name two of them are the same.
        return finding.rule, finding.item, finding.place, finding.message.replace(finding.target, "…")

    first, *others = findings.values()
    everywhere = {bare(f) for f in first}.intersection(*({bare(f) for f in rows} for rows in others))
    names = ", ".join(findings)
    shared = [replace(f, message=_of_all(f.message, f.target)) for f in first if bare(f) in everywhere]
    yield f"{names}: ", shared, [f for f in every if bare(f) in everywhere]
    for target, rows in findings.items():
        alone = [f for f in rows if bare(f) not in everywhere]
        yield f"{target}: ", alone, alone


def _of_all(message: str, target: str) -> str:
    """What is said of one target, of all.

    >>> _of_all("a is neither packed nor in t.", "t"), _of_all("t runs an older release.", "t")
    ('a is neither packed nor in any of them.', 'each of them runs an older release.')
    """
    # After a "not", each of them would mean that some may have it.
    is_denied = re.search(rf"\b(not|nor)\b.*\b{re.escape(target)}\b", message) is not None
    return re.sub(rf"\b{re.escape(target)}\b", "any of them" if is_denied else "each of them", message)


def _blocks(findings: Mapping[str, Sequence[Finding]]) -> Iterable[Block]:
    for where, rows, every in _shared(findings):
        meant = dict(_grouped(every))
        for todo, group in _grouped(rows):
            cells: list[Row] = [
                [Cell(_level_word(f), TONE[f.level]), f.message, Cell(where_all, "dim"), Cell(f.rule, "dim")]
                for f, where_all in _alike(group)
            ]
            heading = f"{where}{_heading(todo)}"
            # A column that is empty in every row is left out.
            if any(finding.item for finding in group):
                yield cut_grid(
                    Grid(["", "what", "where", "rule"], cells, heading, spare=(2, 3)), "--json, or --sarif FILE"
                )
            else:
                yield Grid(["", "what", "rule"], [[row[0], row[1], row[3]] for row in cells], heading, spare=(2,))
            if steps := steps_of(meant[todo]):
                yield Lines([to_do(step) for step in steps])


def _grouped(findings: Sequence[Finding]) -> list[tuple[Todo, list[Finding]]]:
    groups: dict[Todo, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(todo_of(finding), []).append(finding)
    return [(todo, groups[todo]) for todo in _ORDER if todo in groups]


def _heading(todo: Todo) -> str:
    return begun(todo.value)


def _where(finding: Finding) -> str:
    if not finding.item:
        return ""
    # By names and not by numbers: the third step is another one after somebody has moved it.
    place = f" at {place_phrase(finding.phrase)}" if finding.phrase else ""
    return f"{readable(finding.item)}{place}"


def _alike(findings: Sequence[Finding]) -> list[tuple[Finding, str]]:
    """Findings that say the same, each with where all of them are: what thirty flows lack has to be mended once."""
    places: dict[tuple[str, Level, str], list[Finding]] = {}
    for finding in findings:
        places.setdefault((finding.rule, finding.level, finding.message), []).append(finding)
    return [
        (alike[0], f"{_where(alike[0])} and {len(alike) - 1} more" if len(alike) > 1 else _where(alike[0]))
        for alike in places.values()
    ]


def _level_word(finding: Finding) -> str:
    return "to map" if finding.rule == TO_MAP else finding.level.value


def _level_cell(rule: Rule, levels: Mapping[str, str]) -> Cell:
    level = Level(levels.get(rule.name, rule.level.value))
    return Cell(f"{level.value}{' (set)' if rule.name in levels else ''}", TONE[level])
