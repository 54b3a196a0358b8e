"""Take back: the opposite of publishing for the first time."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench
from amphora.environments.contract import Publishes, able


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Takes the live version back; EnvironmentRefused where the environment can't."""
    if not bench.habits.takes_back:
        raise EnvironmentRefused("its live version can't be taken back there", subject=step.key)
    able(bench.environment, Publishes, "can't take a live version back").take_back(bench.seen(step.key))
    return {}
