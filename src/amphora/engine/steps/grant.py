"""Grant: what gives access is written, new or over what is there."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Writes the item: made where it is not there, else as it was last seen."""
    write = bench.write_of(step.key, drawn[step.key], token)
    [written] = bench.environment.write([write])
    return {step.key: written.native_id} if write.is_new else {}
