"""What a step will leave, as it is told before the step is begun; and states of which only what is no secret is kept."""

from __future__ import annotations

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.form.secrets import STRICT
from amphora.core.plan.states import Habits, Image
from amphora.core.plan.steps import Create, Drawn, Update
from amphora.core.values.model import States
from amphora.engine.leaks import sealed_image

SWITCHED = parse_sheet('kind = "flow"\n[states]\nswitch = true\npublish = true')
PLAIN = parse_sheet('kind = "list"')
SHEETS = {"flow": SWITCHED, "list": PLAIN}


def drawn(kind: str, is_on: bool | None) -> Drawn:
    return Drawn(kind, ("a",), States("A", "top", is_on, None), {"x": 1}, {"x": 1})


@pytest.mark.parametrize(
    ("kind", "writes_states", "is_on", "left"),
    [
        # Where switching is a step of its own, what is new is off; what can't be switched is neither.
        ("flow", False, True, (False, False)),
        ("list", False, True, (None, None)),
        ("flow", True, True, (True, False)),
        ("list", True, None, (None, None)),
    ],
)
def test_what_a_creation_leaves(
    kind: str, writes_states: bool, is_on: bool | None, left: tuple[bool | None, bool | None]
) -> None:
    habits = Habits(True, writes_states, False, True, SHEETS)
    made = Create((f"{kind}:a",)).meant(f"{kind}:a", None, drawn(kind, is_on), habits)
    assert made is not None
    assert (made.states.is_on, made.states.is_published) == left
    assert (made.live, made.draft) == ((None, {"x": 1}) if kind == "flow" else ({"x": 1}, None))


@pytest.mark.parametrize("writes_states", [False, True])
def test_what_an_update_leaves(writes_states: bool) -> None:
    habits = Habits(True, writes_states, False, True, SHEETS)
    now = Image("1", "flow", ("a",), States("Old", "", True, True), {"x": 0}, None)
    left = Update(("flow:a",)).meant("flow:a", now, drawn("flow", False), habits)
    assert left is not None
    assert (left.states.title, left.states.folder, left.states.is_published) == ("A", "top", True)
    assert left.states.is_on is (not writes_states)
    assert (left.live, left.draft) == ({"x": 0}, {"x": 1})


def test_each_of_two_versions_is_hidden_by_itself() -> None:
    secret = "password=Zk3vQ9xT7bLm2RpW8sYc4Hd6Jf1Ng5"
    image = Image("1", "flow", ("a",), States("A"), {"note": "live"}, {"note": secret})
    found = sealed_image("flow:a", image, SHEETS, STRICT)
    assert found.live == {"note": "live"}
    assert secret not in str(found.draft)
    other = sealed_image("flow:a", Image("1", "flow", ("a",), States("A"), {"note": secret}, None), SHEETS, STRICT)
    assert (other.draft, secret in str(other.live)) == (None, False)
