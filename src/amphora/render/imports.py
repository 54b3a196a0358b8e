"""Results of compare and import: the docket, before and after."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.merge.patch import patch_of
from amphora.core.needs.crosswalk import row_name
from amphora.core.needs.selection import readable
from amphora.core.plan.docket import Do, Docket, Fate
from amphora.core.values.keys import Key
from amphora.core.values.raw import size_of
from amphora.core.values.tokens import PREFIX
from amphora.engine.compare import Differences
from amphora.engine.runs import Outcome
from amphora.engine.verify import Verified
from amphora.environments.contract import Identity
from amphora.files.workspace import EnvironmentEntry
from amphora.render.beside import differing, text_lines
from amphora.render.changes import (
    change_json,
    changes_grid,
    mapped_json,
    place_phrase,
)
from amphora.render.check import finding_json
from amphora.render.edits import withdrawal_blocks
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, counted, titled

_DO: dict[Do, Tone] = {Do.CREATE: "good", Do.UPDATE: "warn", Do.LEAVE: "dim", Do.RETIRE: "bad"}


def docket_verdict(docket: Docket) -> str:
    """What is at stake, in one sentence."""
    if docket.is_idle and not docket.undecided:
        return f"Nothing to do: {docket.target} already has {docket.title}."
    parts = [f"{len(docket.by(Do.CREATE))} new", f"{len(docket.by(Do.UPDATE))} changed"]
    if docket.edited:
        is_safe = not any(action in docket.edited for action in docket.undecided)
        parts.append(f"{counted(len(docket.edited), 'local edit')} {'kept' if is_safe else 'at stake'}")
    if docket.undecided:
        parts.append(f"{len(docket.undecided)} to decide")
    gone = docket.fated(Fate.RETIRE)
    rows = sum(one.present.rows or 0 for one in gone)
    end = (
        f"{counted(len(gone), 'item')} removed" + (f" with {rows:,} rows" if rows else "")
        if gone
        else "nothing removed"
    )
    if let_go := docket.fated(Fate.LET_GO):
        end += f", {len(let_go)} let go"
    return f"{docket.title} into {docket.target}: {', '.join(parts)}, {end}."


def docket_blocks(docket: Docket, only: Key | None = None, what: str = "") -> list[Block]:
    """Actions as a table, then what changes in each updated item, in words and, for texts, line by line."""
    narrowed = {one.key: one.changes for one in differing(docket, what)} if what else None
    shown = [a for a in docket.actions if only in (None, a.key) and (narrowed is None or a.key in narrowed)]
    rows: list[Row] = [
        [
            Cell(action.do.value, _DO[action.do]),
            Cell(readable(action.key), "strong"),
            action.states.title,
            Cell(action.reason, "dim"),
        ]
        for action in shown
    ]
    blocks: list[Block] = [Grid(["", "item", "title", "why"], rows, spare=(2,))] if rows else []
    blocks += withdrawal_blocks(docket) if only is None else []
    if docket.left_out and only is None:
        blocks.append(Lines([readable(key) for key in docket.left_out], "Left out of this import"))
    for action in shown:
        comparison = action.comparison
        if comparison and comparison.changes:
            changes = narrowed[action.key] if narrowed is not None else comparison.changes
            sizes = {name: size_of(raw) for name, raw in docket.files.items()}
            grid = changes_grid(changes, docket.target, docket.title, comparison.has_base, sizes)
            blocks.append(titled(grid, readable(action.key)))
            blocks += text_lines(changes, (docket.target, docket.title))
            if not comparison.has_base:
                words = "Nothing tells what was there before: what differs is of unknown origin."
                blocks.append(Lines([Cell(words, "dim")]))
        if comparison and comparison.is_layout_moved and (comparison.changes or only):
            blocks.append(Lines([Cell("Some of it was only moved on the canvas.", "dim")]))
    return blocks


def docket_json(docket: Docket) -> dict[str, object]:
    """A docket for machines."""
    return {
        "package": docket.title,
        "target": docket.target,
        "fingerprint": docket.fingerprint,
        "actions": [
            {
                "key": action.key,
                "do": action.do.value,
                "reason": action.reason,
                "changes": [change_json(c) for c in action.comparison.changes] if action.comparison else [],
                "patch": patch_of(action.comparison.target, action.form) if action.comparison else [],
            }
            for action in docket.actions
        ],
        "no_longer_packed": [
            {"key": r.key, "fate": r.fate.value, "rows": r.present.rows or 0, "used_by": list(r.users)}
            for r in docket.retirements
        ],
        "custody": docket.custody.value,
        "needs": [mapped_json(one) for one in docket.mapped],
        "findings": [finding_json(finding) for finding in docket.findings],
    }


def compare_result(docket: Docket, file: str = "", only: Key | None = None, what: str = "") -> Result:
    """A package against a target; `what` narrows it down to what changed, clashes or was edited."""
    written = f" The docket is in {file}." if file else ""
    questions: list[str] = []
    for action in docket.undecided:
        if action.comparison:
            questions += [f"- {readable(action.key)}: {place_phrase(c.place)}" for c in action.comparison.open]
    blocks = docket_blocks(docket, only, what)
    if questions:
        blocks.append(Lines(questions, "Somebody has to decide"))
    name = f"{docket.package}-{docket.version}"
    if docket.is_idle and not docket.undecided:
        after = f"amphora verify {docket.package} {docket.target}"
    elif docket.undecided and not file:
        after = f"amphora compare {name} {docket.target} --docket {name}.{docket.target}.docket.yaml"
    else:
        after = f"amphora import {file or docket.package + ' ' + docket.target}"
        after = f"answer the questions in {file}, then {after}" if docket.undecided else after
    return Result(
        "compare",
        docket_verdict(docket) + written,
        "warn" if docket.undecided else "plain",
        blocks,
        docket_json(docket),
        after,
        0 if docket.is_idle else 1,
    )


def difference_result(left: str, right: str, found: Differences) -> Result:
    """Two sides against each other, with nobody importing anything."""
    only_left, only_right, changed = found.only_left, found.only_right, found.changed
    total = len(only_left) + len(only_right) + len(changed)
    rows: list[Row] = [[f"only in {left}", Cell(readable(key), "strong")] for key in only_left]
    rows += [[f"only in {right}", Cell(readable(key), "strong")] for key in only_right]
    blocks: list[Block] = [Grid([], rows)] if rows else []
    for key, changes in sorted(changed.items()):
        blocks.append(titled(changes_grid(changes, left, right, False), readable(key)))
        blocks += text_lines(changes, (left, right))
    verdict = (
        f"{left} and {right} are the same."
        if not total
        else f"{len(changed)} differ, {len(only_left)} only in {left}, {len(only_right)} only in {right}."
    )
    data = {
        "only_left": list(only_left),
        "only_right": list(only_right),
        "changed": {key: [change_json(change) for change in changes] for key, changes in changed.items()},
        "patches": {key: patch_of(found.left[key].form, found.right[key].form) for key in changed},
    }
    return Result("compare", verdict, "plain" if total else "good", blocks, data, "", 1 if total else 0)


def target_lines(entry: EnvironmentEntry, identity: Identity, release: str) -> list[str]:
    """Where an import is going, shown before anything happens."""
    where = ", ".join(
        part for part in (entry.role, f"region {entry.region}" if entry.region else "", entry.customer) if part
    )
    return [
        f"Target   {entry.name} ({where}), release {release}",
        f"Account  {identity.account} ({identity.role})",
    ]


def preview_result(docket: Docket) -> Result:
    """What an import would do; nothing was touched."""
    blocks = docket_blocks(docket)
    loaded = sum(action.key in docket.records for action in docket.by(Do.CREATE))
    if loaded:
        blocks.append(Lines([f"Rows would be loaded into {counted(loaded, 'new table')}."]))
    return Result(
        "import",
        f"Preview, nothing was touched. {docket_verdict(docket)}",
        blocks=blocks,
        data={"preview": True, **docket_json(docket)},
        next_step=f"amphora import {docket.package}-{docket.version} {docket.target}"
        + (" --with records" if docket.records else ""),
    )


def idle_result(docket: Docket) -> Result:
    """There was nothing to import."""
    return Result(
        "import",
        docket_verdict(docket),
        "good",
        data={"state": "nothing to do", "target": docket.target, "package": docket.title},
        next_step=f"amphora verify {docket.package} {docket.target}",
    )


def import_result(docket: Docket, outcome: Outcome, verified: Sequence[Verified]) -> Result:
    """An import was carried out."""
    actions = {action.key: action for action in docket.actions}
    links: list[Row] = [
        [Cell(actions[key].states.title, "strong"), Cell(actions[key].item.link, "dim"), link]
        for key, link in sorted(outcome.links.items())
    ]
    wrong = [one for one in verified if not one.is_as_promised]
    blocks: list[Block] = [Grid(["item", "was at", "is now at"], links, "Old and new links")] if links else []
    todo = [
        f"- Enter secret {row_name(token.removeprefix(PREFIX))} in {actions[key].states.title}:"
        f" {outcome.links.get(key) or _address(docket, key)}"
        for key, token in docket.to_enter
    ]
    if todo:
        blocks.append(Lines([Cell(line, "warn") for line in todo], "Still to do by hand"))
    if wrong:
        blocks.append(Lines([Cell(f"- {readable(one.key)} is not as promised", "bad") for one in wrong], "Verified"))
    loaded = sum(action.key in docket.records for action in docket.by(Do.CREATE))
    if loaded:
        blocks.append(Lines([f"Rows were loaded into {counted(loaded, 'new table')}."]))
    gone = docket.fated(Fate.RETIRE)
    if gone:
        blocks.append(Lines([f"{counted(len(gone), 'item')} retired; kept in runs/{outcome.run.name}."]))
    retired = f", {len(gone)} retired" if gone else ""
    created, updated = len(docket.by(Do.CREATE)), len(docket.by(Do.UPDATE))
    checked = (
        f"{'all ' if len(verified) > 1 else ''}{counted(len(verified), 'item')} verified"
        if not wrong
        else f"{len(wrong)} items are not as promised"
    )
    return Result(
        "import",
        f"Done: {docket.title} is in {docket.target}, {created} created, {updated} updated{retired}; {checked}."
        f" Run {outcome.run.name}.",
        "bad" if wrong else "good",
        blocks,
        {
            "state": outcome.run.state,
            "run": outcome.run.name,
            "target": docket.target,
            "package": docket.title,
            "created": created,
            "updated": updated,
            "links": {key: {"old": actions[key].item.link, "new": link} for key, link in outcome.links.items()},
            "secrets_to_enter": [[key, token] for key, token in docket.to_enter],
            "not_as_promised": [one.key for one in wrong],
        },
        f"amphora history {outcome.run.name}",
        1 if wrong else 0,
    )


def _address(docket: Docket, key: Key) -> str:
    present = next(action.present for action in docket.actions if action.key == key)
    return present.link if present else ""
