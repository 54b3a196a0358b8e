"""What stands beside a run: what of it is another than when the run began."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.form.native_ids import closed_id
from amphora.core.plan.states import Image, is_same, mark_of
from amphora.core.values.keys import Key
from amphora.engine.runs.stage import Stage, looked_up
from amphora.ledger.records import BACKWARDS, Run


def untold(stage: Stage) -> list[str]:
    """In words, of what nobody can tell whether it changed."""
    return [
        f"each {kind} is read otherwise since then: nobody can tell whether another was changed"
        for kind in sorted(stage.read_otherwise)
    ]


def moved_outside(stage: Stage, run: Run, touched: set[str], since: int) -> list[str]:
    """What else in the target is another than when the run began: by name and person."""
    before = stage.ledger.journal.outside(run)
    rows = {row.native_id: row for row in stage.environment.index()}
    otherwise = stage.read_otherwise
    unsure = {id_ for id_, row in rows.items() if row.kind in otherwise}
    # What its kind sheet calls otherwise by now isn't gone.
    there = rows.keys() | {str(closed_id(id_, stage.habits.sheets[rows[id_].kind].ids)) for id_ in unsure}
    moved = {id_ for id_, row in rows.items() if before.get(id_) != row.revision} | (before.keys() - there)
    # Only asked where something has moved: it reads what later runs left.
    if moved := moved - touched - unsure:
        if since > 1:
            # What earlier legs brought stays.
            outcomes = (step.outcome or {} for step in stage.ledger.journal.steps(run))
            moved -= {native_id for outcome in outcomes for native_id in (outcome.get("ids") or {}).values()}
        moved -= _put_back_since(stage, run, before)
        moved -= gone_on_since(stage, run)
        moved -= stage.saved_as_before(run, moved)
    found = [
        f"{rows[id_].states.title!r} was changed since, by {rows[id_].modified_by or 'somebody'}"
        for id_ in moved & rows.keys()
    ]
    return sorted(found) + [f"an item that was there is gone ({id_})" for id_ in sorted(moved - rows.keys())]


def gone_on_since(stage: Stage, run: Run) -> set[str]:
    """The ids of what earlier runs of ours left in legs that came after this one began, and what is still so: whoever
    went on with an import that was paused is not somebody."""
    journal = stage.ledger.journal
    left: dict[str, str] = {}
    for one in [one for one in journal.runs() if one.uid == run.uid and one.id < run.id and one.leg > 1]:
        later = [leg.number for leg in journal.legs(one)[1:] if leg.began >= run.started_at]
        touched = journal.touched(one, later[0]) if later else {}
        marks = journal.left(one) if touched else {}
        ids = {delivery.key: delivery.native_id for delivery in stage.ledger.delivered(one)} if touched else {}
        left |= {ids[key]: marks[key] for key in touched if key in ids and key in marks}
    now = stage.environment.look(sorted(left)) if left else {}
    return {id_ for id_, image in now.items() if is_same(stage.habits.mark(image), left[id_])}


def _put_back_since(stage: Stage, run: Run, before: Mapping[str, str]) -> set[str]:
    """The ids of what later runs of ours changed, and what is again as it was when this one began: its revision
    is another one, and nobody changed it."""
    journal, sheets = stage.ledger.journal, stage.habits.sheets
    first: dict[Key, Image] = {}
    for one in reversed(journal.runs()):
        if one.uid == run.uid and one.id > run.id and one.kind not in BACKWARDS:
            first = {key: image for key, image in journal.touched(one).items() if image} | first
    # What the later run found has to be what this one found: else somebody was there in between.
    first = {key: image for key, image in first.items() if before.get(image.native_id) == image.revision}
    ids = {key: image.native_id for key, image in first.items()}
    ids |= {link.key: link.native_id for link in stage.ledger.links(run.uid) if link.key in first}
    after = looked_up(stage.environment, ids)
    same = [key for key, image in first.items() if is_same(mark_of(image, sheets), mark_of(after[key], sheets))]
    return {id_ for key in same for id_ in (ids[key], first[key].native_id)}
