"""What became of everything in a target that a run was not to touch."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.engine.runs.outside import gone_on_since
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.engine.sides import Side
from amphora.engine.verify import verify
from amphora.ledger.records import Run


@dataclass(frozen=True)
class Elsewhere:
    """Something outside of what a run was to touch that is not as it was before it. `is_ours` tells that it was
    changed while the run went on, under its account: that would be our doing. `is_same`: its revision is another,
    its contents are those from before the run, or those that were last delivered."""

    title: str
    what: str
    who: str = ""
    at: str = ""
    is_ours: bool = False
    is_same: bool = False


@dataclass(frozen=True)
class Others:
    """Everything else in a target: what of it `moved` since before the run called `since`, of how many, and of how
    many nobody can tell, for they are read otherwise by now. No run: nobody knows what was there before."""

    since: str = ""
    count: int = 0
    moved: tuple[Elsewhere, ...] = ()
    untold: int = 0


def others_since(session: Session, side: Side, run: Run, mine: Collection[Key] = ()) -> Others:
    """What is not as it was before a run, outside of what it was to touch, and was not touched by a later one; `mine`
    are told of otherwise."""
    journal = session.ledger.journal
    stage = stage_of(session, side.name, run)
    before = journal.outside(run)
    now = {native_id: side.by_key[key] for native_id, key in side.keys.items()}
    untold = {row.native_id for row in side.by_key.values() if row.kind in stage.read_otherwise}
    known = {row.native_id for key in mine if (row := side.by_key.get(key))}
    for one in journal.runs():
        if one.uid == run.uid and one.id >= run.id:
            known |= {image.native_id for image in journal.touched(one).values() if image}
            for step in journal.steps(one):
                known |= set((step.outcome or {}).get("created", ()))
    known |= gone_on_since(stage, run)
    others = sorted((before.keys() | now.keys()) - known - untold)
    moved = [one for one in others if one not in now or before.get(one) != now[one].revision]
    there = [one for one in moved if one in before and one in now]
    as_before = stage.saved_as_before(run, there)
    same = as_before | _as_delivered(session, side, [one for one in there if one not in as_before])
    found = []
    for native_id in moved:
        row = now.get(native_id)
        title = row.states.title if row else native_id
        who, at = (row.modified_by or "", row.modified_at or "") if row else ("", "")
        if native_id in same:
            was = "before the run" if native_id in as_before else "delivered"
            found.append(Elsewhere(title, f"saved again, and still as it was {was}", who, at, is_same=True))
            continue
        what = "removed" if row is None else "changed" if native_id in before else "new"
        during = bool(at) and run.started_at <= at <= (run.ended_at or run.started_at)
        found.append(Elsewhere(title, what, who, at, during and who == run.account))
    return Others(run.name, len(before.keys() - known), tuple(found), len(untold & before.keys()))


def _as_delivered(session: Session, side: Side, native_ids: Iterable[str]) -> set[str]:
    """Of these items those whose contents are what was delivered last: some platforms count a new revision of what
    refers to a changed item, or of what somebody saves as it is."""
    latest = session.ledger.last_deliveries(side.uid)
    ids = {key: one for one in native_ids if (key := side.keys[one]) in latest}
    # A look begins with the whole index, which nobody needs for nothing.
    looked = verify(session, side.name, [latest[key] for key in ids]) if ids else []
    return {ids[one.key] for one in looked if one.is_as_promised}
