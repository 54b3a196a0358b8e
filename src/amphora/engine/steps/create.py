"""Create, and create bare."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Makes the item."""
    [written] = bench.environment.write([bench.write_of(step.key, drawn[step.key], token)])
    return {step.key: written.native_id}
