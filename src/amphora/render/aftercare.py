"""Results of aftercare: what is open, what was done, what somebody ticked off."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.plan.aftercare import DOABLE, told
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.words import counted, few
from amphora.engine.aftercare import Cared
from amphora.engine.verdicts import COUNTS
from amphora.ledger.records import NOT_NEEDED, Entry
from amphora.render.result import MOST_ROWS, Block, Cell, Grid, Lines, Result, Row, cut_lines


def care_blocks(entries: Sequence[Entry]) -> list[Block]:
    """Open tasks, by environment and run: number, what to do, where and who can."""
    blocks: list[Block] = []
    for run in dict.fromkeys(entry.run for entry in entries):
        mine = [entry for entry in entries if entry.run == run]
        first = mine[0]
        title = f"{first.environment}: {first.package} {first.version}, run {run}"
        lines: list[Cell | str] = []
        for entry in mine:
            lines.append(Cell(f"{entry.number:>4}  {entry.task.words}", "warn"))
            if beside := [part for part in (entry.task.link, entry.task.who) if part]:
                lines.append(Cell(f"      {', '.join(beside)}", "dim"))
        blocks.append(Lines(cut_lines(lines, "--json"), title))
    return blocks


def care_result(entries: Sequence[Entry], blind: Sequence[str], what: str) -> Result:
    """What is still to do."""
    blocks = care_blocks(entries)
    if blind:
        blocks.append(Lines([Cell(f"- {line}", "warn") for line in blind], "Could not be looked at"))
    data = {"open": [entry_json(entry) for entry in entries], "not_looked_at": list(blind)}
    where = f" of {what}" if what else ""
    if not entries:
        return Result("aftercare", f"Nothing is left to do{where}.", "good", blocks, data, to_type("history"))
    runs = dict.fromkeys(entry.run for entry in entries)
    words = f"{counted(len(entries), 'thing is', 'things are')} still to do after {few(list(runs))}:"
    words += f" {told([entry.task for entry in entries])}."
    if any(entry.task.kind in DOABLE for entry in entries):
        after = to_type("aftercare", *([what] if what else []), "--do")
    else:
        after = advice("When it is done", to_type("aftercare", "--tick", str(entries[0].number)))
    return Result("aftercare", words, "warn", blocks, data, after, COUNTS)


def done_result(cared: Cared, what: str) -> Result:
    """What was done of it, and what was left."""
    blocks: list[Block] = []
    if cared.done:
        lines: list[Cell | str] = [Cell(f"- {entry.task.words}", "good") for entry in cared.done]
        blocks.append(Lines(cut_lines(lines, "--json"), "Done, and seen there"))
    if cared.unseen:
        lines = [f"- {entry.task.words}" for entry in cared.unseen]
        blocks.append(Lines(cut_lines(lines, "--json"), "Done; the platform shows nobody whether it is there"))
    rows: list[Row] = [[str(e.number), Cell(e.task.words, "warn"), Cell(why, "dim")] for e, why in cared.left]
    if rows:
        blocks.append(Grid(["", "still to do", "why"], rows[:MOST_ROWS], right=(0,)))
    runs = f" Run {few([run.name for run in cared.runs])}." if cared.runs else ""
    every = [*cared.done, *cared.unseen]
    words = f"{counted(len(every), 'thing')} done, {len(cared.left)} left.{runs}"
    if not every:
        words = f"Nothing of it could be done from here: {len(cared.left)} left."
    if not every and not cared.left:
        words = "Nothing is left to do."
    left = [entry.number for entry, _ in cared.left]
    after = advice("When it is done", to_type("aftercare", "--tick", str(left[0]))) if left else to_type("history")
    data = {
        "done": [entry_json(entry) for entry in every],
        "left": [{**entry_json(entry), "why": why} for entry, why in cared.left],
        "runs": [run.name for run in cared.runs],
    }
    return Result("aftercare", words, "warn" if left else "good", blocks, data, after, COUNTS if left else 0)


def ticked_result(entries: Sequence[Entry], still: Sequence[Entry]) -> Result:
    """What somebody closed, and whether its runs are complete now."""
    open_runs = {entry.run for entry in still}
    complete = [run for run in dict.fromkeys(entry.run for entry in entries) if run not in open_runs]
    parts = []
    for is_needed, state in ((True, "done"), (False, "not needed")):
        if mine := [str(entry.number) for entry in entries if (entry.state != NOT_NEEDED) is is_needed]:
            parts.append(f"{few(mine, 8)} {'is' if len(mine) == 1 else 'are'} {state}")
    words = f"{', '.join(parts)}, says {entries[0].by}."
    words += f" {few(complete)} {'is' if len(complete) == 1 else 'are'} complete." if complete else ""
    lines: list[Cell | str] = [f"- {entry.task.words}" for entry in entries]
    data = {"closed": [entry_json(entry) for entry in entries], "complete": complete}
    after = to_type("aftercare") if still else to_type("history", entries[0].run)
    return Result("aftercare", words, "good", [Lines(lines)], data, after)


def entry_json(entry: Entry) -> dict[str, object]:
    """One task for machines."""
    return {
        "number": entry.number,
        "run": entry.run,
        "environment": entry.environment,
        "kind": entry.task.kind.value,
        "key": entry.task.key,
        "words": entry.task.words,
        "link": entry.task.link,
        "who": entry.task.who,
        "state": entry.state,
        "by": entry.by,
        "note": entry.note,
        "at": entry.at,
    }
