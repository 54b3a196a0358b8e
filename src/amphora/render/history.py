"""Results of history: runs, and one in full."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.merge.phrase import place_phrase
from amphora.core.plan.kept import Change
from amphora.core.values.keys import readable
from amphora.core.values.next_step import blank, to_type
from amphora.core.values.tokens import parse_token
from amphora.core.values.words import counted, few
from amphora.engine.record import COMPLETE, Record, Told
from amphora.engine.run_verdicts import of_campaign, of_told, of_tolds
from amphora.ledger.records import (
    BACKWARDS,
    BROKEN_OFF,
    IMPORT,
    OPEN,
    PUT_BACK,
    UNDONE,
    Campaign,
    Entry,
    LegOf,
    Run,
    ending,
)
from amphora.render.aftercare import entry_json
from amphora.render.changes import in_words
from amphora.render.csv_text import csv_text
from amphora.render.in_columns import in_columns
from amphora.render.markdown import code, md
from amphora.render.result import MOST_ROWS, Block, Cell, Grid, Lines, Result, Row, Tone, cut_grid, cut_lines, shown

STATE_TONE: Mapping[str, Tone] = {
    COMPLETE: "good",
    "undone": "warn",
    "done": "good",
    "put back": "warn",
    "broken off": "bad",
    "running": "warn",
    "paused": "warn",
    "kept": "warn",
}

SO_FAR_TONE: Mapping[str, Tone] = {"in": "good", "begun": "warn", "uncertain": "bad"}


def history_result(tolds: Sequence[Told], is_part: bool = False) -> Result:
    """Runs, the latest first; `is_part` tells that only some were asked for."""
    # For what puts another run back: a number from the ledger says nothing to anybody.
    names = {one.run.id: one.run.name for one in tolds}
    rows: list[Row] = [
        [
            Cell(one.run.name, "strong"),
            what_of(one.run, names),
            Cell(standing(one), _tone(one)),
            one.run.started_at,
            Cell(one.run.account, "dim"),
            Cell(shown(one.run.why, 40) if one.run.why else "", "dim"),
        ]
        for one in tolds
    ]
    headings = ["run", "what", "state", "started", "by", "why"]
    # A column that nobody has filled takes the place of others.
    if not any(one.run.why for one in tolds):
        headings, rows = headings[:-1], [row[:-1] for row in rows]
    grid = cut_grid(Grid(headings, rows, spare=(5, 4) if len(headings) > 5 else (4,)), "amphora history --csv")
    bad, still = sum(one.run.is_open for one in tolds), sum(one.still for one in tolds)
    parts = [f"{bad} of them still open"] if bad else []
    parts += [f"{counted(still, 'thing')} still to do after them"] if still else []
    words = f"{counted(len(tolds), 'run')}{''.join(f', {part}' for part in parts)}."
    if not tolds:
        words = "No such run." if is_part else "No run yet."
    after = to_type("history") if is_part else to_type("import", blank("PACKAGE"), blank("ENVIRONMENT"))
    return Result(
        "history",
        words,
        "warn" if bad or still else "plain",
        [grid] if rows else [],
        {"runs": [told_json(one) for one in tolds]},
        of_tolds(tolds) if tolds else after,
    )


def standing(told: Told) -> str:
    """How a run stands, in words: nobody looks at its target for that, so that only what was seen there is told."""
    parts = [told.ending, *([f"{told.still} to do"] if told.still else [])]
    return ", ".join([*parts, *([f"{told.wrong} not as promised when verified"] if told.wrong else [])])


def _tone(told: Told) -> Tone:
    return "warn" if told.still or told.wrong else STATE_TONE.get(told.state, "plain")


def told_json(told: Told) -> dict[str, object]:
    """A run in a list, for machines."""
    # The state as people are told it: `done` is only complete when its aftercare is.
    return {**vars(told.run), "state": told.state, "still_to_do": told.still, "not_as_promised": told.wrong}


def history_csv(tolds: Sequence[Told]) -> str:
    """Runs as CSV (RFC 4180), for a spreadsheet."""
    heads = [
        "run",
        "kind",
        "package",
        "version",
        "environment",
        "state",
        "still to do",
        "not as promised when verified",
    ]
    return csv_text([*heads, "started", "ended", "by", "why"], [_csv_row(one, one.run) for one in tolds])


def _csv_row(told: Told, run: Run) -> list[object]:
    how = [run.name, run.kind, run.package, run.version, run.environment, told.ending, told.still, told.wrong]
    return [*how, run.started_at, run.ended_at, run.account, run.why]


def history_markdown(tolds: Sequence[Told]) -> str:
    """Runs as a Markdown table."""
    names = {one.run.id: one.run.name for one in tolds}
    lines = ["| run | what | into | state | started | by | why |", "|---|---|---|---|---|---|---|"]
    for one in tolds:
        run = one.run
        cells = [run.name, what_of(run, names), run.environment, standing(one), run.started_at, run.account, run.why]
        lines.append("| " + " | ".join(map(md, cells)) + " |")
    return "\n".join(lines) + "\n"


def record_result(record: Record) -> Result:
    """One run in full."""
    run = record.run
    blocks: list[Block] = [Grid([], [[Cell(name, "dim"), words] for name, words in facts(record)])]
    if run.note:
        blocks.append(Lines([Cell(run.note, "warn")], "What happened"))
    # One leg is the run itself.
    if len(record.legs) > 1:
        lines: list[Cell | str] = [
            f"leg {leg.number} by {leg.account}, {leg.began} to {leg_end(leg)}" for leg in record.legs
        ]
        blocks.append(Lines(lines, "Legs"))
    blocks += _item_blocks(record)
    if record.care:
        rows: list[Row] = [
            [str(one.number), one.task.words, Cell(one.state, "warn" if one.state == OPEN else "good"), closed(one)]
            for one in record.care
        ]
        blocks.append(cut_grid(Grid(["", "aftercare", "state", "by"], rows, right=(0,)), "--json"))
    if record.proofs:
        rows = [
            [
                one.at,
                one.account,
                f"{one.items} looked at",
                Cell(proof_words(one.wrong), "bad" if one.wrong else "good"),
            ]
            for one in record.proofs
        ]
        blocks.append(Grid(["verified", "by", "", ""], rows[-MOST_ROWS:]))
    # Of runs of older builds: their items were not kept, and steps are all there is.
    if not record.lines:
        rows = [
            [str(step.number), step.do, Cell(few([readable(key) for key in step.keys]), "strong"), step.state]
            for step in record.steps
        ]
        blocks.append(
            cut_grid(Grid(["", "step", "item", "outcome"], rows, right=(0,)), f"amphora history {run.name} --json")
        )
    return Result("history", verdict(record), _tone(record.told), blocks, record_json(record), of_told(record.told))


def verdict(record: Record) -> str:
    """One run in a sentence."""
    run = record.run
    # An import goes into a place; an undo or a withdrawal happens there.
    where = f"{'into' if run.kind == IMPORT else 'in'} {run.environment}"
    return f"{run.name}: {what_of(run, {})} {where}, {standing(record.told)}."


def facts(record: Record) -> list[tuple[str, str]]:
    """Who, when, why, under which conditions."""
    run = record.run
    found = [("by", run.account), ("when", f"{run.started_at} to {run.ended_at or '(still going on, or cut off)'}")]
    found += [("why", run.why)] if run.why else []
    found += [("agreed by", ", ".join(record.agreed))] if record.agreed else []
    found += [("puts back", record.of_run)] if record.of_run else []
    if record.backwards:
        # Of a run that went on afterwards only a leg was put back.
        is_all = run.state in (PUT_BACK, UNDONE, BROKEN_OFF)
        found.append(("put back by" if is_all else "a leg put back by", ", ".join(o.name for o in record.backwards)))
    found += [("package digest", record.package_digest)] if record.package_digest else []
    if record.bindings:
        found.append(("mapped", few([f"{readable(k)} = {shown(v, 30)}" for k, v in record.bindings.items()], 8)))
    return found


def _item_blocks(record: Record) -> list[Block]:
    """What was done with each item, what changed in it, what went."""
    touched = record.touched
    rows: list[Row] = []
    for line in touched:
        # Both titles: whoever looks for the old one half a year later has to find it.
        title = f"{line.was} -> {line.title}" if line.was else line.title
        links = (line.old_link, record.links.get(line.key, ""))
        state = record.so_far.get(line.key, "")
        so_far = [] if record.is_over else [Cell(state, SO_FAR_TONE.get(state, "dim"))]
        rows.append([line.do, *so_far, Cell(readable(line.key), "strong"), title, Cell(line.reason, "dim"), *links])
    blocks: list[Block] = []
    if rows:
        heads = ["", *([] if record.is_over else ["so far"]), "item", "title", "why", "was at", "is now at"]
        grid = Grid(heads, rows, spare=(len(heads) - 2, len(heads) - 4))
        blocks.append(cut_grid(grid, f"amphora history {record.run.name} --html FILE"))
    same = len(record.lines) - len(touched)
    if same:
        blocks.append(Lines([f"{counted(same, 'other is', 'others are')} the same."]))
    for line in [line for line in touched if line.changes][:MOST_ROWS]:
        cells: list[Row] = [
            [place_phrase(c.place), *_sides(c, record), c.by, choice_words(c, record)] for c in line.changes
        ]
        heads = ["where", "last delivered", "there before", "in the package", "changed by", "decided"]
        # Where nobody had to decide nothing is said of it.
        if not any(c.choice for c in line.changes):
            heads, cells = heads[:-1], [row[:-1] for row in cells]
        blocks.append(Grid(heads, cells, readable(line.key)))
    if record.gone:
        lines: list[Cell | str] = [
            f"- {readable(key)} ({title}): {fate}" + (f", {counted(rows, 'row')}" if rows else "")
            for key, fate, title, rows in record.gone
        ]
        blocks.append(Lines(cut_lines(lines, "--json"), "No longer in the package"))
    return blocks


def _sides(change: Change, record: Record) -> list[str]:
    """The sides of a change beside each other."""
    values = [MISSING if side is None else side for side in change.sides]
    return in_columns(values, lambda value: in_words(value, record.bindings))


def side_words(value: str | None, record: Record) -> str:
    """One side of a change, as much as a table holds; a need by what it was called there then."""
    return "(none)" if value is None else in_words(value, record.bindings)


def whole_side(value: str | None, record: Record) -> str | None:
    """The same for a page, where nothing has to be cut."""
    token = parse_token(value)
    if token and token.is_need and token.key in record.bindings:
        return side_words(value, record)
    return '""' if value == "" else value


def closed(entry: Entry) -> str:
    """Who closed a task, when, in which words."""
    return ", ".join(part for part in (entry.by, entry.at, entry.note) if part)


def proof_words(wrong: Mapping[str, str]) -> str:
    """What a verification came to, in words."""
    return few([f"{key}: {why}" for key, why in wrong.items()]) if wrong else "as promised"


def record_json(record: Record) -> dict[str, object]:
    """One run for machines."""
    return {
        "run": told_json(record.told),
        "puts_back": record.of_run,
        "put_back_by": [other.name for other in record.backwards],
        "agreed_by": list(record.agreed),
        "package_digest": record.package_digest,
        "mapped": dict(record.bindings),
        "legs": [vars(leg) for leg in record.legs],
        "items": [
            {
                "key": line.key,
                "do": line.do,
                "reason": line.reason,
                "title": line.title,
                "was_called": line.was,
                "old_link": line.old_link,
                "so_far": record.so_far.get(line.key, ""),
                "new_link": record.links.get(line.key, ""),
                "changes": [vars(change) for change in line.changes],
            }
            for line in record.lines
        ],
        "no_longer_packed": [
            {"key": key, "fate": fate, "title": title, "rows": rows} for key, fate, title, rows in record.gone
        ],
        "findings": [
            {"level": level, "rule": rule, "item": item, "message": words}
            for level, rule, item, words in record.findings
        ],
        "aftercare": [entry_json(entry) for entry in record.care],
        "verified": [
            {"at": one.at, "by": one.account, "items": one.items, "wrong": dict(one.wrong)} for one in record.proofs
        ],
        "steps": [{"number": s.number, "do": s.do, "keys": list(s.keys), "state": s.state} for s in record.steps],
    }


def choice_words(change: Change, record: Record) -> str:
    """What was decided on a change, where somebody had to."""
    return whole_side(change.choice, record) or ""


def record_markdown(record: Record) -> str:
    """One run as Markdown, for a ticket."""
    lines = [f"# {md(record.run.name)}", "", f"**{md(verdict(record))}**", "", "| | |", "|---|---|"]
    lines += [f"| {name} | {md(words)} |" for name, words in facts(record)]
    touched = record.touched
    if touched:
        lines += ["", "## Items", "", "| what | item | title | why | is now at |", "|---|---|---|---|---|"]
        lines += [
            f"| {line.do} | {code(readable(line.key))} | {md(line.title)} | {md(line.reason)} |"
            f" {md(record.links.get(line.key, ''))} |"
            for line in touched
        ]
    for line in touched:
        if line.changes:
            lines += ["", f"### {md(line.title)}", "", "| where | there before | in the package | by | decided |"]
            lines.append("|---|---|---|---|---|")
            for c in line.changes:
                cells = [
                    place_phrase(c.place),
                    *(side_words(one, record) for one in c.sides[1:]),
                    c.by,
                    choice_words(c, record),
                ]
                lines.append("| " + " | ".join(map(md, cells)) + " |")
    if record.gone:
        lines += ["", "## No longer in the package", ""]
        lines += [
            f"- {code(readable(key))} {md(title)}: {fate}, {counted(rows, 'row')}"
            for key, fate, title, rows in record.gone
        ]
    if record.care:
        lines += ["", "## Aftercare", "", "| | what | state | by |", "|---|---|---|---|"]
        lines += [f"| {e.number} | {md(e.task.words)} | {e.state} | {md(closed(e))} |" for e in record.care]
    if record.proofs:
        lines += ["", "## Verified", "", "| when | by | items | came to |", "|---|---|---|---|"]
        lines += [f"| {p.at} | {md(p.account)} | {p.items} | {md(proof_words(p.wrong))} |" for p in record.proofs]
    return "\n".join(lines) + "\n"


def campaign_result(campaign: Campaign, runs: Sequence[Run]) -> Result:
    """One import into many targets: how it stands in each."""
    latest: dict[str, Run] = {}
    for run in runs:
        # The runs come the latest first.
        latest.setdefault(run.environment, run)
    rows: list[Row] = []
    for number, names in enumerate(campaign.request["rounds"], 1):
        for name in names:
            mine = latest.get(name)
            # No run: its turn has not come, or it had all of it. The ledger can't tell these apart.
            state = ending(mine, mine.state) if mine else "not begun, or nothing to do"
            rows.append(
                [
                    str(number),
                    Cell(name, "strong"),
                    Cell(state, STATE_TONE.get(mine.state if mine else "", "dim")),
                    mine.name if mine else "",
                    mine.started_at if mine else "",
                    Cell(mine.account if mine else "", "dim"),
                ]
            )
    words = f"{campaign.name}: {campaign.package} {campaign.version} into {len(campaign.targets)} targets,"
    return Result(
        "history",
        f"{words} {campaign.state}; {campaign.started_at} by {campaign.account}.",
        "warn" if campaign.state == OPEN else "plain",
        [Grid(["round", "target", "state", "run", "started", "by"], rows, right=(0,))],
        {"campaign": campaign.name, "state": campaign.state, "runs": [vars(run) for run in runs]},
        of_campaign(campaign, runs),
    )


def leg_end(leg: LegOf) -> str:
    """How a leg ended."""
    return f"{leg.ended}, {leg.state}" if leg.ended else "(still going on, or cut off)"


def what_of(run: Run, names: Mapping[int, str]) -> str:
    """What a run carried out, in a few words."""
    package = f"{run.package} {run.version}".strip()
    if run.kind in BACKWARDS:
        return f"{run.kind} of {names.get(run.of_run or 0, package)}"
    part = f" ({run.campaign})" if run.campaign else ""
    return f"{package}{part}" if run.kind == IMPORT else f"{run.kind} of {package}"
