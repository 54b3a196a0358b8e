"""Switch on or off."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.plan.steps import Drafts, Step, Switch
from amphora.core.values.keys import Key
from amphora.engine.steps.contract import Bench
from amphora.environments.contract import Switches, able


def do(step: Step, bench: Bench, drawn: Drafts, token: str) -> Mapping[Key, str]:
    """Switches the item as it was last seen."""
    assert isinstance(step, Switch)
    able(bench.environment, Switches, "can't switch anything").switch(bench.seen(step.key), step.is_on)
    return {}
