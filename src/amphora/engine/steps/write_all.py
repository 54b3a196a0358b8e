"""Write all: many items in one call."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Writes them all, or none."""
    writes = [bench.write_of(key, drawn[key], token) for key in step.keys]
    written = bench.environment.write(writes)
    pairs = zip(step.keys, writes, written, strict=True)
    return {key: one.native_id for key, write, one in pairs if write.is_new}
