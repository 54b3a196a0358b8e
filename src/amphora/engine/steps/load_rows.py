"""Load rows into an empty table."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench
from amphora.environments.contract import HoldsRows, able


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Fills the table, with all rows or none."""
    there = bench.here(step.key).native_id
    table = able(bench.environment, HoldsRows, "has no tables with rows")
    table.load(there, bench.material.rows(step.key), bench.material.comes_back)
    return {}
