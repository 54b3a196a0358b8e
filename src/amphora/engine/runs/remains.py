"""The remains of a removal that broke off: what a platform has put away and not yet removed for good."""

from __future__ import annotations

from amphora.core.plan.restoration import Restoration
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Step
from amphora.core.values.keys import Key
from amphora.engine.runs.stage import Stage
from amphora.environments.contract import RemovesInTwo


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
