"""Legs: what goes in before something can be made by hand, and what only after."""

from __future__ import annotations

from collections.abc import Collection

from hypothesis import given
from hypothesis import strategies as st

from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.needs.pauses import Legs, legs_of
from amphora.core.values.model import Item, Need, States


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
