"""What comes before what: everything is written before anything is switched on, what goes, goes last, and what something
made by hand needs goes in before a pause."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.kinds import parse_sheet
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.needs.pauses import Legs, legs_of
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.docket import Parting, Retirement
from amphora.core.plan.order import import_steps
from amphora.core.plan.states import Habits
from amphora.core.plan.steps import permissions_of
from amphora.core.values.model import Item, Listed, Need, States

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


def item(name: str, *uses: str) -> Item:
    return Item(f"flow:{name}", 1, {"uses": [f"amphora:{use}" for use in uses]}, States(name))


def later(need: str, maker: str) -> Mapped:
    return Mapped(Need(f"connection:{need}", ()), "live", MapState.LATER, f"flow:{maker}")


def legs(
    items: Collection[Item], mapped: Collection[Mapped], there: Collection[str] = (), required: Collection[str] = ()
) -> Legs:
    by_key = {one.key: one for one in items}
    new = by_key.keys() - {f"flow:{name}" for name in there}
    return legs_of(by_key, new, mapped, lambda one, need: one.states.title in required)


def names(found: Legs) -> list[set[str]]:
    return [{key.removeprefix("flow:") for key in group} for group in found.groups]


FEED = later("x", "feed")


def test_as_little_as_possible_goes_in_before_the_pause() -> None:
    items = [item("app", "connection:x", "flow:table"), item("table"), item("feed", "flow:list"), item("list")]
    found = legs(items, [FEED])
    assert names(found) == [{"feed", "list"}, {"app", "table"}]
    assert (found.waits_after(0), found.bare, found.stuck) == (["connection:x"], {}, ())
    # Nothing waits where nobody uses it, where it is served, or where the maker is there already.
    assert names(legs(items[1:], [FEED])) == [{"table", "feed", "list"}]
    assert len(legs(items, [later("y", "feed")]).groups) == 1
    assert len(legs(items, [FEED], there=["feed"]).groups) == 1
    # What the target has is not needed before the pause, unless a part of it may be lacking.
    assert names(legs(items, [FEED], there=["list"])) == [{"feed"}, {"app", "table", "list"}]
    parts = [item("app", "connection:x"), item("feed", "flow:list#low"), item("list")]
    assert names(legs(parts, [FEED], there=["list"])) == [{"feed", "list"}, {"app"}]


def test_pauses_follow_each_other() -> None:
    items = [item("a"), item("b", "connection:x"), item("c", "connection:y"), item("d", "flow:c")]
    found = legs(items, [later("x", "a"), later("y", "b")])
    assert names(found) == [{"a"}, {"b"}, {"c", "d"}]
    assert [found.waits_after(leg) for leg in range(3)] == [["connection:x"], ["connection:y"], []]


def test_a_maker_that_uses_what_is_made_from_it_goes_in_without() -> None:
    items = [item("feed", "connection:x", "flow:low"), item("low", "connection:x"), item("app", "connection:x")]
    found = legs(items, [FEED])
    assert names(found) == [{"feed", "low"}, {"app"}]
    assert found.bare == {key: frozenset(["connection:x"]) for key in ("flow:feed", "flow:low")}
    assert found.stuck == ()
    assert legs(items, [FEED], required=["low", "app"]).stuck == (("flow:low", "connection:x"),)
    # By itself it still waits: to be completed.
    assert names(legs([item("feed", "connection:x")], [FEED])) == [{"feed"}, set()]


def test_two_things_made_from_each_other_are_stuck() -> None:
    items = [item("a", "connection:y"), item("b", "connection:x")]
    stuck = legs(items, [later("x", "a"), later("y", "b")]).stuck
    assert {need for _, need in stuck} <= {"connection:x", "connection:y"}
    assert stuck


NAMES = "abcdefg"
GRAPHS = st.fixed_dictionaries({name: st.frozensets(st.sampled_from(NAMES + "xyz"), max_size=3) for name in NAMES})


@given(GRAPHS, st.dictionaries(st.sampled_from("xyz"), st.sampled_from(NAMES)), st.frozensets(st.sampled_from(NAMES)))
def test_whatever_is_used_is_there_in_time(
    graph: dict[str, frozenset[str]], makers: dict[str, str], there: frozenset[str]
) -> None:
    items = [
        item(name, *(f"connection:{use}" if use in "xyz" else f"flow:{use}" for use in sorted(uses)))
        for name, uses in graph.items()
    ]
    found = legs(items, [later(need, maker) for need, maker in makers.items()], there)
    leg = {key: number for number, group in enumerate(found.groups) for key in group}
    assert sorted(leg) == sorted(one.key for one in items)
    if found.stuck:
        return
    for one in items:
        for used in one.uses() & leg.keys():
            assert leg[used] <= leg[one.key] or used.removeprefix("flow:") in there
        for _, token in one.tokens:
            if token.key in found.makers and token.key not in found.bare.get(one.key, ()):
                assert leg[found.makers[token.key]] < leg[one.key]
    assert all(leg[maker] < len(found.groups) - 1 for maker in found.makers.values())


def test_what_lets_people_in_is_switched_on_once_it_is_there() -> None:
    sheets = SHEETS | {"rule": parse_sheet('kind = "rule"\naccess = ["flow"]\n[states]\nswitch = true\n')}
    rule = replace(action("rule:r", "flow:a"), states=States("rule:r", "", True))
    steps = import_steps([rule, action("flow:a")], [], Habits(True, False, False, True, sheets))
    assert [(step.do, *step.keys) for step in steps][-2:] == [("grant", "rule:r"), ("switch", "rule:r")]
