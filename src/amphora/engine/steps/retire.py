"""Retire a set of items."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Removes those of the set that are there, as they were last seen."""
    bench.environment.retire([bench.seen(key) for key in step.keys if bench.now.get(key)])
    return {}
