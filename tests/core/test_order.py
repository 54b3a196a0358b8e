"""What comes before what: everything is written before anything is switched on, and what goes, goes last."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.docket import Parting, Retirement
from amphora.core.plan.order import import_steps
from amphora.core.plan.states import Habits
from amphora.core.plan.steps import permissions_of
from amphora.core.values.model import Item, Listed, States

SHEETS = {
    "flow": parse_sheet('kind = "flow"\n[states]\nswitch = true\npublish = true\n'),
    "table": parse_sheet('kind = "table"'),
    "rule": parse_sheet('kind = "rule"\naccess = ["flow"]'),
}


def action(key: str, *uses: str, do: Do = Do.CREATE) -> Action:
    kind = key.partition(":")[0]
    states = States(key, "", True, True) if kind == "flow" else States(key, "")
    form = {"uses": [f"amphora:{use}" for use in uses]}
    present = Listed("n", kind, (key,), States(key, "", False, True), "1", "") if do is Do.UPDATE else None
    comparison = SimpleNamespace(changes=[SimpleNamespace(place="/x", choice="package", by="package")])
    return Action(key, do, "", Item(key, 1, form, states), form, states, present, cast(Any, comparison))


GONE = Retirement("flow:old", Listed("o", "flow", ("old",), States("old"), "1", ""), (), Parting.RETIRE)
STAYS = Retirement("flow:kept", Listed("k", "flow", ("kept",), States("kept"), "1", ""))


@pytest.mark.parametrize("is_atomic", [False, True])
def test_what_replaces_something_is_there_before_that_goes(is_atomic: bool) -> None:
    habits = Habits(True, is_atomic, is_atomic, True, SHEETS)
    actions = [action("flow:a", "table:t"), action("table:t"), action("flow:b", do=Do.UPDATE)]
    steps = import_steps(actions, [GONE, STAYS], habits, rows={"table:t": 3})
    told = [(step.do, step.keys) for step in steps]
    assert told[-1] == ("retire", ("flow:old",))
    assert [do for do, _ in told].count("retire") == 1
    if is_atomic:
        assert [do for do, _ in told] == ["write all", "retire"]
        return
    at = {(do, keys[0]): number for number, (do, keys) in enumerate(told)}
    assert at["create", "table:t"] < at["create", "flow:a"]
    written = max(at["create", "flow:a"], at["create", "table:t"], at["update", "flow:b"])
    assert written < at["load rows", "table:t"] < at["publish", "flow:a"] < at["switch", "flow:a"]
    # Before the last leg nothing begins to work.
    early = import_steps(actions, [], habits, is_last=False)
    assert {step.do for step in early} == {"create", "update", "publish"}


def test_people_are_let_in_when_all_that_they_will_find_is_published_and_on() -> None:
    habits = Habits(True, False, False, True, SHEETS)
    actions = [action("rule:r", "flow:a"), action("flow:a"), action("rule:s", "flow:a", do=Do.UPDATE)]
    told = [(step.do, *step.keys) for step in import_steps(actions, [GONE], habits)]
    assert told == [
        ("create", "flow:a"),
        ("publish", "flow:a"),
        ("switch", "flow:a"),
        ("grant", "rule:r"),
        ("grant", "rule:s"),
        ("retire", "flow:old"),
    ]
    # One that something else needs, or that names itself, is written in its turn: and takes the same right.
    needed = [action("rule:r", "rule:r"), action("rule:s"), action("flow:a", "rule:s")]
    steps = import_steps(needed, [], habits)
    assert "grant" not in [step.do for step in steps]
    assert permissions_of(steps, SHEETS)["grant"] == ["rule:s", "rule:r"]
    everything = import_steps(actions, [], replace(habits, is_atomic=True))
    assert permissions_of(everything, SHEETS) == {"write": ["flow:a"], "grant": ["rule:r", "rule:s"]}
