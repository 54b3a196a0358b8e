"""What may be touched only while it is off: switched off right before, on right after, and never oftener."""

from __future__ import annotations

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.plan.rests import at_rest, resting_in
from amphora.core.plan.states import Habits
from amphora.core.plan.steps import (
    Complete,
    Create,
    EnterSecret,
    Grant,
    Move,
    Publish,
    RetireSet,
    Step,
    Switch,
    Update,
)

SHEETS = {"flow": parse_sheet('kind = "flow"\n[states]\nswitch = true\n')}
BOTH = frozenset({("write", "flow"), ("retire", "flow")})
A, B = ("flow:a",), ("flow:b",)
OFF, ON = Switch(A, False), Switch(A, True)


@pytest.mark.parametrize(
    ("steps", "on", "rests", "expected"),
    [
        ([Update(A)], "a", BOTH, [OFF, Update(A), ON]),
        ([Update(A)], "a", frozenset(), [Update(A)]),
        ([Update(A)], "a", frozenset({("retire", "flow")}), [Update(A)]),
        ([Update(A)], "a", frozenset({("write", "report")}), [Update(A)]),
        ([Update(A)], "b", BOTH, [Update(A)]),
        ([Create(A), ON], "", BOTH, [Create(A), ON]),
        ([Update(A), Publish(A), Update(B)], "a", BOTH, [OFF, Update(A), Publish(A), ON, Update(B)]),
        ([Update(A), Update(B), Update(A)], "a", BOTH, [OFF, Update(A), Update(B), Update(A), ON]),
        # What the plan itself says of the switch holds, and nothing is switched twice.
        ([Update(A), Switch(A, False)], "a", BOTH, [OFF, Update(A)]),
        ([Update(A), Update(B), ON], "a", BOTH, [OFF, Update(A), Update(B), ON]),
        ([Publish(A), OFF], "a", BOTH, [Publish(A), OFF]),
        ([Update(A), Publish(A), OFF], "a", BOTH, [OFF, Update(A), Publish(A)]),
        ([OFF, Update(A)], "a", BOTH, [OFF, Update(A)]),
        # What is to be off is off before it is changed, unless publishing might switch it on.
        ([Update(B), Update(A), OFF], "ab", frozenset(), [Update(B), OFF, Update(A)]),
        ([Update(A), Publish(A), OFF], "a", frozenset(), [Update(A), Publish(A), OFF]),
        ([Update(A), ON], "", frozenset(), [Update(A), ON]),
        ([Update(A), RetireSet(A)], "a", BOTH, [OFF, Update(A), ON, OFF, RetireSet(A)]),
        ([RetireSet(A + B)], "a", BOTH, [OFF, RetireSet(A + B)]),
        ([RetireSet(A)], "a", frozenset({("write", "flow")}), [RetireSet(A)]),
        *(([kind(A)], "a", BOTH, [OFF, kind(A), ON]) for kind in (Complete, Grant, EnterSecret, Move)),
    ],
)
def test_what_rests_is_off_for_a_while(
    steps: list[Step], on: str, rests: frozenset[tuple[str, str]], expected: list[Step]
) -> None:
    habits = Habits(False, False, False, True, SHEETS, rests=rests)
    assert at_rest(steps, {f"flow:{one}" for one in on}, habits) == expected
    is_for_a_while = OFF in expected and ON in expected
    assert resting_in(expected) == (["flow:a"] if is_for_a_while else [])
