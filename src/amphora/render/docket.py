"""A docket file looked into, without its target."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.merge.phrase import place_phrase
from amphora.core.values.keys import readable
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.words import counted, few
from amphora.files.agreements import Agreement, open_questions
from amphora.files.docket_file import DocketFile
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_grid, cut_lines, shown
from amphora.render.sign import agreement_block, agreements_json


def docket_result(file: DocketFile, found: Sequence[Agreement], needed: int) -> Result:
    """What stands in a docket: what it does item by item, what is chosen, what is open, and who agreed."""
    path, items = file.decisions.file, file.document["items"]
    questions = open_questions(file)
    counts: dict[str, int] = {}
    for row in items.values():
        counts[row["action"]] = counts.get(row["action"], 0) + 1
    good = [one for one in found if one.counts]
    words = f"{file.package} {file.version} into {file.target}: {few([f'{n} {do}' for do, n in counts.items()], 8)}."
    if questions:
        words += f" {counted(len(questions), 'question')} open."
    elif needed or good:
        words += f" {counted(len(good), 'person has', 'people have')} agreed" + (
            f", {needed} needed." if needed else "."
        )
    rows: list[Row] = [
        [row["action"], Cell(readable(key), "strong"), row.get("reason", ""), str(row.get("choice", ""))]
        for key, row in items.items()
        if row["action"] != "leave" or row.get("changes") or "choice" in row
    ]
    blocks: list[Block] = [cut_grid(Grid(["", "item", "why", "choice"], rows), path)] if rows else []
    if same := len(items) - len(rows):
        blocks.append(Lines([f"{counted(same, 'other is', 'others are')} the same."]))
    if choices := _choices(items):
        blocks.append(cut_grid(Grid(["item", "where", "chosen"], choices), path))
    # Whoever agrees to it agrees to this, too, and it stands at no item.
    beside = (
        ["Rows of its tables go along, into those that are new or empty there."] if file.decisions.records else []
    )
    beside += [f"Without its {few(list(file.decisions.without), 2)}."] if file.decisions.without else []
    blocks += [Lines(list(beside))] if beside else []
    gone = file.document["no_longer_packed"] or {}
    lines: list[Cell | str] = [
        f"- {readable(key)} ({row['title']}): {row['choice']}, {counted(row.get('rows') or 0, 'row')}"
        for key, row in gone.items()
    ]
    blocks += [Lines(cut_lines(lines, path), "No longer in the package")] if lines else []
    care: list[Cell | str] = [f"- {line}" for line in file.document["aftercare"]]
    blocks += [Lines(cut_lines(care, path), "To be done afterwards")] if care else []
    blocks += [agreement_block(found)] if found else []
    data = {
        "docket": path,
        "package": f"{file.package} {file.version}",
        "target": file.target,
        "actions": counts,
        "records": file.decisions.records,
        "without": list(file.decisions.without),
        "open": questions,
        "agreed": agreements_json(found),
        "needed": needed,
    }
    after = to_type("import", path)
    if questions:
        again = to_type("compare", f"{file.package}-{file.version}", file.target, "--docket", path, "--decide")
        after = advice("Answer each ? in the file, or at a terminal", again)
    elif len(good) < needed:
        after = to_type("sign", path, "--key", blank("NAME"))
    return Result("peek", words, "warn" if questions or len(good) < needed else "good", blocks, data, after)


def _choices(items: Mapping[str, Mapping[str, object]]) -> list[Row]:
    rows: list[Row] = []
    for key, row in items.items():
        changes = row.get("changes") or {}
        assert isinstance(changes, Mapping)
        for place, change in changes.items():
            if "choice" in change:
                choice = change["choice"]
                told = shown(choice["value"], 44) if isinstance(choice, Mapping) else str(choice)
                rows.append([readable(key), place_phrase("" if place == "/" else str(place)), told])
    return rows
