"""Update, complete and move: a definition is written over one that is there."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Writes the item, if it is as it was last seen; gives the id that it has now, where that is made from its name
    and has become another one."""
    here = bench.here(step.key)
    [written] = bench.environment.write([bench.write_of(step.key, drawn[step.key], token)])
    return {step.key: written.native_id} if written.native_id != here.native_id else {}
