"""Results of compare and import: the docket, before and after."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from amphora.core.form.routes import told
from amphora.core.merge.patch import patch_of
from amphora.core.merge.phrase import place_phrase
from amphora.core.plan.actions import SAME, Action, Do
from amphora.core.plan.consents import consents_of
from amphora.core.plan.docket import Docket, Parting
from amphora.core.plan.reasons import Reason
from amphora.core.values.keys import Key, kind_of, readable, told_apart
from amphora.core.values.raw import size_of
from amphora.core.values.words import begun, counted, every, few, of_release
from amphora.engine.verdicts import of_comparison, of_import, of_nothing_to_do, of_preview
from amphora.ledger.records import OPEN
from amphora.render.aftercare import entry_json
from amphora.render.beside import differing, text_lines
from amphora.render.changes import (
    change_json,
    changes_grid,
    finding_json,
    mapped_json,
    rearranged,
)
from amphora.render.csv_text import csv_text
from amphora.render.result import (
    MOST_ROWS,
    Block,
    Cell,
    Grid,
    Lines,
    Result,
    Row,
    Tone,
    cut_grid,
    cut_lines,
    titled,
    to_do,
)
from amphora.render.verify import off_words
from amphora.render.withdraw import retirement_row, withdrawal_blocks

if TYPE_CHECKING:
    from amphora.engine.runs.outcome import Outcome
    from amphora.engine.session import Opened
    from amphora.engine.verify import Verified

_DO: dict[Do, Tone] = {Do.CREATE: "good", Do.UPDATE: "warn", Do.LEAVE: "dim", Do.RETIRE: "bad"}


def docket_blocks(docket: Docket, only: Key | None = None, what: str = "", is_all: bool = False) -> list[Block]:
    """Actions as a table, then what changes in each updated item, in words and, for texts, line by line. What is the
    same is counted only, unless `is_all`."""
    narrowed = {one.key: one.changes for one in differing(docket, what)} if what else None
    shown = [a for a in docket.actions if only in (None, a.key) and (narrowed is None or a.key in narrowed)]
    same = [a for a in shown if only is None and not is_all and _is_same(a)]
    # Asked again, and not looked up: of ten thousand items that would be a hundred million comparisons.
    shown = [a for a in shown if not _is_same(a)] if same else shown
    rows: list[Row] = [
        [
            Cell(action.do.value, _DO[action.do]),
            Cell(readable(action.key), "strong"),
            action.states.title,
            Cell(action.reason, "dim"),
        ]
        for action in shown
    ]
    whole = docket.usual_file if docket.file else "--docket FILE, or --json"
    grid = cut_grid(Grid(["", "item", "title", "why"], rows, spare=(2,)), whole)
    # A count by place before a list that has to be cut: where it happens is what people ask first.
    blocks: list[Block] = _by_place(shown) if len(rows) > MOST_ROWS else []
    blocks += [grid] if rows else []
    if same:
        alone = begun(f"{every(len(same), 'item')} {'is' if len(same) == 1 else 'are'}")
        words = counted(len(same), "other is", "others are") if rows else alone
        blocks.append(Lines([Cell(f"{words} the same (compare --all).", "dim")]))
    blocks += withdrawal_blocks(docket) if only is None else []
    blocks += conversion_blocks(docket) if docket.converted and only is None else []
    if only is None and (otherwise := rearranged(docket)):
        lines: list[Cell | str] = [f"- {line}" for line in otherwise]
        blocks.append(Lines(cut_lines(lines, "--json"), "Arrives otherwise than packed, from now on"))
    if only is None and (fresh := sorted({action.key for action in docket.by(Do.CREATE)} & set(docket.same))):
        lines = cut_lines([f"- {readable(key)}" for key in fresh], "--json")
        blocks.append(Lines(lines, "Said to be there, but nothing is in its place: made new"))
    if docket.left_out and only is None:
        left: list[Cell | str] = [f"- {readable(key)}" for key in docket.left_out]
        they = "They stay" if len(left) > 1 else "It stays"
        hint = Cell(f"{they} out of later versions, too, until --bring ITEM.", "dim")
        blocks.append(Lines([*cut_lines(left, "--json"), hint], "Left out of this import"))
    # Only where something is written over: a creation has nobody's work under it.
    if only is None and not docket.is_guarded and (docket.by(Do.UPDATE) or docket.retirements):
        words = (
            f"{docket.target} takes a write over what somebody changes in that very moment: each item is looked at"
        )
        blocks.append(Lines([Cell(f"{words} just before it is written, and the moment between is nobody's.", "dim")]))
    if docket.resting and only is None:
        shown_ones: list[Cell | str] = [f"- {readable(key)}" for key in docket.resting]
        blocks.append(Lines(cut_lines(shown_ones, "--json"), "Switched off while being changed, and on again after"))
    if docket.care and only is None:
        lines = [f"- {task.words}" for task in docket.care]
        blocks.append(Lines(cut_lines(lines, "--json"), "To be done afterwards"))
    # Field by field of so many only: the rest stands in the docket, whole.
    told = [action for action in shown if action.comparison and action.comparison.changes]
    for action in shown if len(told) <= MOST_ROWS else told[:MOST_ROWS]:
        comparison = action.comparison
        if comparison and comparison.changes:
            changes = narrowed[action.key] if narrowed is not None else comparison.changes
            sizes = {name: size_of(raw) for name, raw in docket.files.items()}
            grid = changes_grid(changes, docket.target, docket.title, comparison.has_base, sizes, docket.named_there)
            blocks.append(titled(grid, readable(action.key)))
            blocks += text_lines(changes, (docket.target, docket.title), docket.named_there)
            if not comparison.has_base:
                words = "Nothing tells what was there before: what differs is of unknown origin."
                blocks.append(Lines([Cell(words, "dim")]))
        if comparison and comparison.is_layout_moved and (comparison.changes or only):
            blocks.append(Lines([Cell("Some of it was only moved on the canvas.", "dim")]))
    return blocks


def _is_same(action: Action) -> bool:
    """Whether there is nothing to be said of an item: it is left, and nothing in it differs."""
    return action.do is Do.LEAVE and not (action.comparison and action.comparison.changes) and action.reason == SAME


def _by_place(actions: Sequence[Action]) -> list[Block]:
    """Many items by kind and folder, counted: what a list of a thousand lines doesn't tell."""
    counts: dict[tuple[str, str], dict[Do, int]] = {}
    for action in actions:
        mine = counts.setdefault((kind_of(action.key), action.states.folder or "(top)"), {})
        mine[action.do] = mine.get(action.do, 0) + 1
    # Columns of nothing but blanks are left out.
    dos = [do for do in Do if any(do in mine for mine in counts.values())]
    rows: list[Row] = [
        [Cell(kind, "strong"), folder, *(str(mine.get(do, "") or "") for do in dos)]
        for (kind, folder), mine in sorted(counts.items())
    ]
    right = tuple(range(2, 2 + len(dos)))
    return [
        cut_grid(Grid(["kind", "folder", *(do.value for do in dos)], rows, "By kind and folder", right), "--json")
    ]


def conversion_blocks(docket: Docket) -> list[Block]:
    """What was converted to the target's shapes, and what of it is left behind."""
    lines: list[Cell | str] = [f"- {line}" for line in told(docket.converted)]
    for one in docket.converted:
        # By its place and not by its value: nobody has looked whether that is a secret, for it goes nowhere.
        for place, _ in one.dropped if not one.unfit else ():
            lines.append(Cell(f"- left behind: {place_phrase(place)} of {readable(one.key)}", "warn"))
    return [Lines(cut_lines(lines, "--json"), f"In the shape that {docket.target} has")] if lines else []


def docket_json(docket: Docket) -> dict[str, object]:
    """A docket for machines."""
    return {
        "package": docket.title,
        "target": docket.target,
        "fingerprint": docket.fingerprint,
        "on_arrival": {key: vars(one) for key, one in docket.arrivals.items()},
        "is_guarded": docket.is_guarded,
        "off_meanwhile": docket.resting,
        "actions": [
            {
                "key": action.key,
                "do": action.do.value,
                "reason": action.reason,
                "changes": [change_json(c) for c in action.comparison.changes] if action.comparison else [],
                # Also as a JSON Patch (RFC 6902): other programs know it.
                "patch": patch_of(action.comparison.target, action.form) if action.comparison else [],
            }
            for action in docket.actions
        ],
        "no_longer_packed": [retirement_row(one) for one in docket.retirements],
        "converted": [
            {
                "key": one.key,
                "from": list(one.before),
                "to": list(one.after),
                "moved": one.moved,
                "split": one.split,
                "filled": one.filled,
                "dropped": [place for place, _ in one.dropped],
                "unfit": dict(one.unfit),
            }
            for one in docket.converted
        ],
        "custody": docket.custody.value,
        "steps": [[step.do, list(step.keys)] for step in docket.steps],
        "rows": docket.loading,
        "aftercare": [task.words for task in docket.care],
        "needs": [mapped_json(one) for one in docket.mapped],
        "findings": [finding_json(finding) for finding in docket.findings],
        "breaks": [{"item": user, "uses": f"{key}#{part}"} for user, key, part in docket.severed],
        "agrees_to": [{"whose": a.whose, "what": a.what, "details": list(a.details)} for a in consents_of(docket)],
    }


def reason_blocks(reasons: Sequence[Reason]) -> list[Block]:
    """What is in the way, each with what exactly and what to do about it."""
    blocks: list[Block] = []
    for reason in reasons:
        lines: list[Cell | str] = [Cell(f"- {line}", "warn") for line in reason.details]
        lines = cut_lines(lines, "--json")
        if reason.next_step:
            lines.append(to_do(reason.next_step))
        blocks.append(Lines(lines, reason.message))
    return blocks


def reasons_json(reasons: Sequence[Reason]) -> list[dict[str, object]]:
    """The same for machines."""
    return [
        {"why": r.why.value, "message": r.message, "details": list(r.details), "next": r.next_step} for r in reasons
    ]


def compare_result(
    docket: Docket, reasons: Sequence[Reason], only: Key | None = None, what: str = "", is_all: bool = False
) -> Result:
    """A package against a target; `what` narrows it down to what changed, clashes or was edited. `reasons` are
    what an import would stop at."""
    rows = _rows_blocks(docket) if only is None and not what else []
    blocks = [*docket_blocks(docket, only, what, is_all), *rows, *_agreed(docket, reasons), *reason_blocks(reasons)]
    data = {**docket_json(docket), "in_the_way": reasons_json(reasons)}
    return Result.of("compare", of_comparison(docket, reasons), blocks, data)


def target_lines(opened: Opened, namesake: str) -> list[str]:
    """Where an import is going, shown before anything happens; `namesake` has the same uid."""
    entry, release = opened.entry, opened.description.release
    some = (entry.role, f"region {entry.region}" if entry.region else "", entry.customer, *entry.own_words)
    where = ", ".join(part for part in some if part)
    return [
        f"Target   {entry.name} ({where}){of_release(release)}",
        f"Account  {opened.environment.whoami()}",
        *([f"Beware   {of_namesake(entry.name, namesake)}"] if namesake else []),
    ]


def of_namesake(name: str, namesake: str) -> str:
    """That two environments have one uid, and what to do about it."""
    words = "what is done in one counts as done in both. If one is a copy of the other, give it a uid of its own"
    return f"{name} and {namesake} say that they are one environment: {words}."


def preview_result(docket: Docket, reasons: Sequence[Reason]) -> Result:
    """What an import would do, or what it would stop at; nothing was touched."""
    blocks = [*docket_blocks(docket), *_rows_blocks(docket), *_agreed(docket, reasons), *reason_blocks(reasons)]
    data = {"preview": True, **docket_json(docket), "in_the_way": reasons_json(reasons)}
    return Result.of("import", of_preview(docket, reasons), blocks, data)


def _agreed(docket: Docket, reasons: Sequence[Reason]) -> list[Block]:
    """What whoever imports this docket agrees to, unless that is in the way and told there."""
    if not docket.file:
        return []
    told = {line for reason in reasons for line in reason.details}
    blocks: list[Block] = []
    for one in consents_of(docket):
        if not told.issuperset(one.details):
            lines = cut_lines([Cell(f"- {line}", "warn") for line in one.details], "--json")
            blocks.append(Lines(lines, f"To be agreed to by importing it: {one.what}"))
    return blocks


def _rows_blocks(docket: Docket) -> list[Block]:
    """Rows that would be loaded: what an undo can't take out of a table that was there."""
    loaded = docket.loading
    if not loaded:
        return _filled_lines(docket)
    there = {action.key for action in docket.actions if action.present}
    lines = [f"{counted(sum(loaded.values()), 'row')} would be loaded into {counted(len(loaded), 'table')}."]
    lines += [f"{readable(k)} is there already: undo can't take its rows out again." for k in loaded if k in there]
    return [Lines(cut_lines(lines, "--json")), *_filled_lines(docket)]


def _filled_lines(docket: Docket) -> list[Block]:
    """Rows that are not loaded: because nobody asked for them, or because somebody's are there."""
    if docket.idle_rows:
        titles = {action.key: action.states.title for action in docket.actions}
        names = few([titles.get(key, readable(key)) for key in docket.idle_rows], 6)
        return [Lines([Cell(f"The package holds rows of {names}; they stay out, unless --with records.", "dim")])]
    if not docket.filled:
        return []
    lines: list[Cell | str] = [f"- {readable(key)}" for key in docket.filled]
    return [Lines(cut_lines(lines, "--json"), "No rows go into tables that hold some already")]


def idle_result(docket: Docket) -> Result:
    """There was nothing to import."""
    data = {"state": "nothing to do", "target": docket.target, "package": docket.title}
    return Result.of("import", of_nothing_to_do(docket), [], data)


def import_result(docket: Docket, outcome: Outcome, verified: Sequence[Verified]) -> Result:
    """An import was carried out."""
    actions = {action.key: action for action in docket.actions}
    wrong = [one for one in verified if not one.is_as_promised]
    blocks = [*link_blocks(docket, outcome)]
    # First what is to be done, then what is only to be known.
    if still := [entry for entry in outcome.care if entry.state == OPEN]:
        lines: list[Cell | str] = []
        for entry in still:
            link = f": {entry.task.link}" if entry.task.link else ""
            lines.append(Cell(f"{entry.number:>4}  {entry.task.words}{link}", "warn"))
        blocks.append(Lines(cut_lines(lines, f"amphora aftercare {outcome.run.name}"), "Still to do"))
    if wrong:
        told = [Cell(f"- {off_words(one)}", "bad") for one in wrong]
        blocks.append(Lines(cut_lines(told, "--json"), "Verified"))
    # Told once, right here: later looks take it for as promised.
    if outcome.rewritten:
        other: list[Cell | str] = [f"- {readable(key)} at {place_phrase(at)}" for key, at in outcome.rewritten]
        title = f"{docket.target} wrote it another way by itself, and that is taken for as promised"
        blocks.append(Lines(cut_lines(other, "--json"), title))
    if outcome.loaded:
        rows = sum(outcome.loaded.values())
        loaded = f"{counted(rows, 'row')} {'was' if rows == 1 else 'were'} loaded"
        blocks.append(Lines([f"{loaded} into {counted(len(outcome.loaded), 'table')}."]))
    blocks += _filled_lines(docket)
    gone = docket.fated(Parting.RETIRE)
    if gone:
        blocks.append(Lines([f"{counted(len(gone), 'item')} retired; kept in runs/{outcome.run.name}."]))
    return Result.of(
        "import",
        of_import(docket, outcome, verified),
        blocks,
        {
            "state": outcome.run.state,
            "run": outcome.run.name,
            "target": docket.target,
            "package": docket.title,
            "created": len(docket.by(Do.CREATE)),
            "updated": len(docket.by(Do.UPDATE)),
            "links": {k: {"old": actions[k].item.link, "new": v} for k, v in outcome.links.items() if k in actions},
            "rewritten": [{"key": key, "place": at} for key, at in outcome.rewritten],
            "old_links": [{"key": o.key, "place": o.place, "address": o.address} for o in outcome.old_links],
            "aftercare": [entry_json(entry) for entry in outcome.care],
            "not_as_promised": [one.key for one in wrong],
        },
    )


def link_blocks(docket: Docket, outcome: Outcome) -> list[Block]:
    """Old and new addresses, and the texts in which an old one still stands."""
    actions = {action.key: action for action in docket.actions}
    mine = {key: (actions[key], link) for key, link in sorted(outcome.links.items()) if key in actions}
    # Of new items only: where the others are people know already.
    mine = {key: pair for key, pair in mine.items() if key in outcome.new}
    # Where items have no address of their own each has that of the platform, which says nothing.
    count = Counter(link for _, link in mine.values())
    mine = {key: pair for key, pair in mine.items() if pair[1] and count[pair[1]] == 1}
    titles = told_apart({key: action.states.title for key, (action, _) in mine.items()})
    blocks: list[Block] = []
    # Copies have no old address: what they are copies of is where it was.
    if any(action.item.link for action, _ in mine.values()):
        rows: list[Row] = [
            [Cell(titles[key], "strong"), Cell(action.item.link, "dim"), link] for key, (action, link) in mine.items()
        ]
        grid = Grid(["item", "was at", "is now at"], rows, "Old and new links")
        blocks.append(cut_grid(grid, "--links FILE"))
    elif mine:
        rows = [[Cell(titles[key], "strong"), link] for key, (_, link) in mine.items()]
        blocks.append(cut_grid(Grid(["item", "is at"], rows, "Links"), "--links FILE"))
    if outcome.old_links:
        lines: list[Cell | str] = [
            Cell(f"- {readable(one.key)}, {place_phrase(one.place)}: {one.address}", "warn")
            for one in outcome.old_links
        ]
        blocks.append(Lines(cut_lines(lines, "--json"), "Addresses of the source that still stand in texts"))
    return blocks


def links_table(done: Iterable[tuple[Docket, Outcome | None]]) -> str:
    """Old and new addresses as CSV (RFC 4180): environment, item, title, old, new; also of what was there already."""
    rows = []
    for docket, outcome in done:
        there = {action.key: action.present.link for action in docket.actions if action.present}
        links = {**there, **(outcome.links if outcome else {})}
        rows += [
            [docket.target, a.key, a.states.title, a.item.link, links[a.key]]
            for a in docket.actions
            if a.key in links
        ]
    return csv_text(["environment", "item", "title", "was at", "is now at"], rows)
