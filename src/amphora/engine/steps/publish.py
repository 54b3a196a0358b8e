"""Publish."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench
from amphora.environments.contract import Publishes, able


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Makes the draft live that was last seen."""
    able(bench.environment, Publishes, "can't publish").publish(bench.seen(step.key))
    return {}
