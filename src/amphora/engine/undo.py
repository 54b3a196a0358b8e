"""Undoing: a run is put back, as a run of its own."""

from __future__ import annotations

from dataclasses import replace

from amphora.core.plan.restoration import Restoration
from amphora.core.values.errors import NotReady
from amphora.core.values.next_step import to_type
from amphora.engine.aftercare import settled_by_looking
from amphora.engine.gate import refuse_not_permitted
from amphora.engine.runs.attention import attended
from amphora.engine.runs.backwards import Back, foresee, put_back
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.ledger.records import BACKWARDS, PUT_BACK, UNDO, UNDONE, Run


def run_to_undo(session: Session, name: str) -> Run:
    """The run that a name means: `last` is the latest one that is in force. NotReady where all of it was
    put back already, or others came after it."""
    journal = session.ledger.journal
    if name == "last":
        # What putting back itself did is never undone by itself: the run that it belongs to is what people know.
        in_force = [r for r in journal.runs() if r.kind not in BACKWARDS and r.state not in (PUT_BACK, UNDONE)]
        if not in_force:
            raise NotReady("There is no run that could be undone.", next_step=to_type("history"))
        return in_force[0]
    run = journal.run(name)
    # What stayed then may be as the run left it by now: it is looked again.
    if run.state in (PUT_BACK, UNDONE) and not run.stays:
        raise NotReady(f"{run.name} was put back already.", subject=run.name, next_step=to_type("history"))
    # Its states lie under those of the later run: only in turn, the newest first, is each one's before the
    # other's after.
    if later := journal.later(run):
        raise NotReady(
            f"{run.name} is not the latest run into {run.environment}: {', '.join(r.name for r in later)} came after"
            " it.",
            subject=run.name,
            next_step=to_type("undo", later[0].name),
        )
    return run


def foreseen(session: Session, run: Run) -> Restoration:
    """What undoing a run would do now."""
    run = session.placed(run)
    return foresee(stage_of(session, run.environment, run), run)


def undo(session: Session, run: Run) -> Back:
    """Undoes a run; refused before anything is touched where the account may not do what that takes."""
    run = session.placed(run)
    stage = stage_of(session, run.environment, run)
    account = stage.environment.whoami().account
    with stage.ledger.locks.held(stage.uid, stage.opened.name, account, f"{run.name} is undone"):
        # Somebody may have done it while we waited.
        run = replace(run_to_undo(session, run.name), environment=run.environment)
        # Before it begins: an undo that stops in its middle for a missing permission leaves more to explain than the
        # run did.
        # What this undo takes, and not what the run took: an item that somebody keeps needs nothing.
        steps = foresee(stage, run).steps
        refuse_not_permitted(stage.opened, steps, run.name, f", which undoing {run.name} takes")
        with attended():
            back = put_back(stage, run, UNDO)
    # What is there already, whoever saw to it, is nothing that has to be done.
    still, _ = settled_by_looking(session, back.care)
    return replace(back, care=tuple(still))
