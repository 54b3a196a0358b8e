"""The remains of what broke off: what a platform has put away and not yet removed for good, or put into something new
by itself."""

from __future__ import annotations

from amphora.core.plan.restoration import Restoration
from amphora.core.plan.states import Image, is_same
from amphora.core.plan.steps import Step
from amphora.core.values.keys import Key
from amphora.engine.runs.evidence import MADE, UNKNOWN, evidence_of
from amphora.engine.runs.stage import Stage
from amphora.environments.contract import FinishesCreations, RemovesInTwo, Write
from amphora.ledger.records import Run


def finish_creations(stage: Stage, run: Run, since: int = 1) -> None:
    """Finishes what creations of a run did that nobody has answered: else what the platform put into something new
    would be taken for somebody's; and lets the environment know what is new of this run."""
    environment = stage.environment
    if not isinstance(environment, FinishesCreations):
        return
    lost = [step for step in stage.ledger.journal.steps(run) if step.do in MADE and step.state in UNKNOWN]
    new = {key for step in lost for key in step.keys if step.intent["before"].get(key) == "absent"}
    for one in evidence_of(stage, run, since):
        if one.is_made_by_us and one.now and not one.doubt:
            environment.finish_creation(one.now.native_id, one.key not in new)


def take_up(stage: Stage, run: Run, since: int = 1) -> None:
    """Gives items back what a change that was cut off had let go of, or not named yet: half of our own work is
    nothing that somebody would have to decide about. Killed in its middle it is done once more."""
    touched = stage.ledger.journal.touched(run, since)
    for step in stage.ledger.journal.steps(run):
        for key, half in step.intent.get("halves", {}).items() if step.state in UNKNOWN else ():
            before = touched.get(key)
            if before is None or not half.get("loose"):
                continue
            now = stage.environment.look([before.native_id]).get(before.native_id)
            if now and any(is_same(stage.habits.mark(now), mark) for mark in half["loose"]):
                token = f"{step.intent['token']}/{key}"
                back = Write(now.kind, now.segments, before.states, before.newest, token, now.native_id, now.revision)
                stage.environment.write([back])


def is_removed_now(stage: Stage, restoration: Restoration, step: Step, finished: set[Key]) -> bool:
    """Whether what a step was to make again had been put away only, by a removal that broke off, and kept its name:
    it is removed for good, each once."""
    environment, again = stage.environment, dict[Key, Image]()
    for key in step.keys:
        one = restoration.evidence[key]
        if one.before and one.now is None and one.is_retired_by_us and key not in finished:
            again[key] = one.before
    finished |= again.keys()
    if not isinstance(environment, RemovesInTwo):
        return False
    found = [environment.finish_removal(image.kind, image.native_id) for image in again.values()]
    return any(found)
