"""Update, complete and move: a definition is written over one that is there."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Writes the item, if it is as it was last seen."""
    bench.here(step.key)
    bench.environment.write([bench.write_of(step.key, drawn[step.key], token)])
    return {}
