"""The overview: on a screen, as CSV, as a page."""

from __future__ import annotations

from amphora.core.values.next_step import NextStep, blank, to_type
from amphora.core.values.words import counted, few
from amphora.engine.overview import Overview, Standing
from amphora.engine.verdicts import COUNTS
from amphora.render.csv_text import csv_text
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, cut_lines

ACROSS = 5
"""So many environments stand side by side on a screen; the others follow below."""

SOURCE = "source"


def overview_result(found: Overview, is_strict: bool = False) -> Result:
    """Packages down, environments across; below, what is not in order. `is_strict` makes that count."""
    blocks: list[Block] = []
    # In several tables rather than one that no terminal holds: a column that is cut off says nothing.
    for start in range(0, len(found.environments), ACROSS):
        names = list(found.environments[start : start + ACROSS])
        rows: list[Row] = [
            [Cell(package, "strong"), found.latest[package], *(_cell(found, package, name) for name in names)]
            for package in found.packages
        ]
        if rows:
            blocks.append(Grid(["package", "newest", *names], rows))
    blocks += _trouble_blocks(found)
    code = COUNTS if is_strict and not found.is_clean else 0
    tone: Tone = "good" if found.is_clean and not found.behind else "warn"
    return Result("overview", words_of(found), tone, blocks, overview_json(found), _next(found), code)


def words_of(found: Overview) -> str:
    """How everything stands, in one sentence or two."""
    places = {name for _, name in found.cells}
    words = f"{counted(len(found.packages), 'package')} in {counted(len(places), 'environment')}"
    # Said by itself: "all in order" of nothing would read like good news.
    if not found.cells:
        return f"{counted(len(found.packages), 'package')}, in force nowhere."
    parts = [f"{len(found.behind)} behind the newest version"] if found.behind else []
    parts += [f"{len(found.troubled)} not in order"] if found.troubled else []
    line = f"{words}: {', '.join(parts) or 'all in order, and the newest everywhere'}."
    if found.blind:
        line += f" Could not look at {few(list(found.blind))}."
    elif any(cell.edits is None for cell in found.cells.values()):
        line += " By the ledger alone: nobody looked for local edits."
    return line


def marks_of(cell: Standing) -> list[str]:
    """What is worth knowing of a package somewhere, a word or two each, the worst first."""
    # An open run first: whatever else is said of that place may be about to change.
    marks = [run.state for run in cell.runs]
    marks += ["not as promised"] if cell.proved and cell.proved.wrong else []
    marks += [f"{cell.edits} edited"] if cell.edits else []
    marks += [f"{len(cell.still)} to do"] if cell.still else []
    return marks + ([f"{cell.behind} behind"] if cell.behind else [])


def standing_words(cell: Standing) -> str:
    """How a package stands, short enough for a column."""
    marks = marks_of(cell)
    return f"{cell.version or '(none yet)'}{' ' + ', '.join(marks) if marks else ''}"


def _cell(found: Overview, package: str, name: str) -> Cell:
    cell = found.cells.get((package, name))
    if cell is None:
        return Cell(SOURCE if (package, name) in found.sources else "", "dim")
    return Cell(standing_words(cell), "warn" if cell.troubles else "dim" if cell.behind else "good")


def _trouble_blocks(found: Overview) -> list[Block]:
    lines: list[Cell | str] = [
        Cell(f"- {package} in {name}: {few(cell.troubles, 8)}", "warn") for package, name, cell in found.troubled
    ]
    lines += [Cell(f"- {name}: {reason}", "bad") for name, reason in found.blind.items()]
    blocks: list[Block] = [Lines(cut_lines(lines, "--csv"), "Not in order")] if lines else []
    unseen = [f"{package} in {name}" for (package, name), cell in found.cells.items() if cell.proved is None]
    if unseen:
        blocks.append(Lines([Cell(f"Never verified: {few(unseen, 6)}.", "dim")]))
    return blocks


def _next(found: Overview) -> NextStep:
    # One of them only: whoever mends it looks again, and is told the next.
    for package, name, cell in found.troubled:
        if cell.runs:
            return to_type("history", cell.runs[0].name)
        if cell.edits:
            return to_type("edits", name)
        if cell.still:
            return to_type("aftercare", name)
        return to_type("verify", package.partition(" (")[0], name)
    if found.behind:
        package, name, _ = found.behind[0]
        return to_type("compare", package.partition(" (")[0], name)
    if not found.packages:
        return to_type("export", blank("ENVIRONMENT"), blank("ITEM"))
    # Nothing is there yet: what comes next is a first crossing, and no history.
    first = found.packages[0]
    goals = [name for name in found.environments if (first, name) not in found.sources and name not in found.blind]
    if not found.cells and goals:
        return to_type("check", first.partition(" (")[0], goals[0])
    return to_type("history")


def overview_json(found: Overview) -> dict[str, object]:
    """The overview for machines."""
    return {
        "packages": [{"package": name, "newest": found.latest[name]} for name in found.packages],
        "environments": list(found.environments),
        "not_looked_at": dict(found.blind),
        "clean": found.is_clean,
        "in_force": [
            {
                "package": package,
                "environment": name,
                "version": cell.version,
                "items": cell.items,
                "behind": cell.behind,
                "edited": cell.edits,
                "open_runs": [run.name for run in cell.runs],
                "aftercare": [entry.number for entry in cell.still],
                "verified_at": cell.proved.at if cell.proved else None,
                "as_promised": not cell.proved.wrong if cell.proved else None,
            }
            for (package, name), cell in sorted(found.cells.items())
        ],
    }


def overview_csv(found: Overview) -> str:
    """The overview as CSV (RFC 4180), a line for each package in each environment."""
    heads = ["package", "environment", "version", "newest", "behind", "edited"]
    rows = [_csv_row(found, package, name, cell) for (package, name), cell in sorted(found.cells.items())]
    return csv_text([*heads, "open runs", "still to do", "verified", "as promised"], rows)


def _csv_row(found: Overview, package: str, name: str, cell: Standing) -> list[object]:
    how: list[object] = [package, name, cell.version, found.latest[package], cell.behind, cell.edits]
    runs = " ".join(run.name for run in cell.runs)
    return [*how, runs, len(cell.still), cell.proved.at if cell.proved else "", _yes(cell)]


def _yes(cell: Standing) -> str:
    return "" if cell.proved is None else "no" if cell.proved.wrong else "yes"


def overview_page(found: Overview, made_at: str) -> str:
    """The overview as a page of its own."""
    from amphora.render.page import page

    def cell_of(package: str, name: str) -> dict[str, object]:
        cell = found.cells.get((package, name))
        if cell is None:
            return {"version": SOURCE if (package, name) in found.sources else "", "notes": [], "tone": ""}
        # Behind is no fault: most places are, between two rounds.
        tone = "bad" if cell.runs else "warn" if cell.troubles else "soft" if cell.behind else "good"
        seen = f"seen {cell.proved.at[:10]}" if cell.proved else "never verified"
        return {"version": cell.version, "notes": [*marks_of(cell), seen], "tone": tone}

    return page(
        "overview",
        {
            "verdict": words_of(found),
            "tone": "good" if found.is_clean else "warn",
            "environments": list(found.environments),
            "rows": [
                {
                    "package": package,
                    "newest": found.latest[package],
                    "cells": [cell_of(package, name) for name in found.environments],
                }
                for package in found.packages
            ],
            "blind": [{"name": name, "reason": reason} for name, reason in found.blind.items()],
            "made_at": made_at,
        },
    )
