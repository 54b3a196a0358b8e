"""What a platform makes of what is written is taken back whatever the order in which it lists named elements."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.filled import Filled, filled_in, kept_entries, stayed, unfilled
from amphora.core.form.places import Places, Spot

_LINES = ([("b", {}), ("a", {"when": ["warm"]})], [("a", {"when": ["warm"]}), ("b", {})])
PLACES = Places([("$.columns", Spot(named_by="name")), ("$.columns[*].type", Spot(named_by="name"))])
TYPES: st.SearchStrategy[Any] = st.sampled_from([None, 1, "x", [1, 2], [], {}, [{"name": "a"}]])
COLUMNS = st.dictionaries(st.sampled_from("abcdef"), TYPES, max_size=6)
BESIDE: st.SearchStrategy[Any] = st.sampled_from(
    [{}, {"columns": [1]}, {"columns": []}, {"columns": {}}, {"columns": None}, {"more": []}]
)


def columns(*some: str, **types: Any) -> dict[str, Any]:
    """A table with these columns, in this order."""
    return {"columns": [{"name": name, "type": types.get(name)} for name in some]}


@given(asked=COLUMNS, found=COLUMNS, dice=st.randoms(use_true_random=False), beside=st.tuples(BESIDE, BESIDE))
def test_what_was_asked_for_comes_back(asked: dict[str, Any], found: dict[str, Any], dice: Any, beside: Any) -> None:
    names = list(found)
    dice.shuffle(names)
    one, other = columns(*asked, **asked) | beside[0], columns(*names, **found) | beside[1]
    assert unfilled(other, filled_in(one, other, PLACES), PLACES) == one


def test_each_element_is_told_by_its_name() -> None:
    off = filled_in(columns("sum", "kilos", sum="REAL"), columns("kilos", "sum", kilos="INT"), PLACES)
    assert [(one.at, one.is_lost) for one in off] == [
        ("/columns/sum/type", True),
        ("/columns/kilos/type", False),
        ("/columns (order)", False),
    ]


def test_an_order_that_somebody_changed_is_theirs_and_what_they_add_stays_where_it_is() -> None:
    off = filled_in(columns("a", "b", "c"), columns("c", "b", "a"), PLACES)
    assert unfilled(columns("b", "c", "a"), off, PLACES) == columns("b", "c", "a")
    assert unfilled(columns("new", "c", "b", "more", "a"), off, PLACES) == columns("new", "a", "b", "more", "c")


def test_what_was_learned_by_position_still_holds() -> None:
    form = columns("kilos", "sum", sum="INT")
    assert unfilled(form, [Filled("/columns/1/type", None, "INT")], PLACES) == columns("kilos", "sum")
    assert unfilled({}, [Filled("/columns/1/type", None, "INT"), Filled("/lost/a", 1, 2)], PLACES) == {}


def test_what_is_listed_in_another_order_has_become_nothing_else() -> None:
    asked, found = ({"lines": [{"to": to, **more} for to, more in some]} for some in _LINES)
    [off] = filled_in(asked, found, PLACES)
    assert (off.at, off.is_untaken, unfilled(found, [off], PLACES)) == ("/lines", False, asked)
    # What became of an entry as well is told by its place.
    assert {one.at for one in filled_in(asked, {"lines": [*found["lines"][:-1], 1]}, PLACES)} > {"/lines/1"}


def test_an_order_that_never_changes_was_not_taken() -> None:
    off = filled_in(columns("a", "b"), columns("b", "a"), PLACES)
    assert stayed(off, columns("b", "a"), PLACES) == off
    assert stayed(off, columns("a", "b"), PLACES) == []


def test_an_entry_that_was_to_go_and_is_there_still_was_not_taken() -> None:
    def kept(before: list[Any], asked: list[Any], found: list[Any]) -> bool:
        off = filled_in({"lines": asked}, {"lines": found}, PLACES)
        return kept_entries(off, {"lines": before}, PLACES) == off

    one, two, new = {"n": 1}, {"n": 2}, {"n": 3}
    assert kept([one, two], [two], [two, one])
    assert kept([one, one], [one], [one, one, new])
    # What the platform adds by itself was never asked for, and stood in no form of before.
    assert not kept([one, two], [two], [two, new])
    assert not kept([one], [one, two], [one, two, new])
    off = filled_in(columns("a", b=1), columns("a", "c", "b"), PLACES)
    assert [one.at for one in kept_entries(off, columns("b", "c"), PLACES)] == ["/columns/c", "/columns/b"]
    assert kept_entries(off, columns("a"), PLACES) == []


def test_what_has_stayed_is_kept_with_what_it_is() -> None:
    for one in (Filled("/a", 1, 2, True), Filled("/a", 1, 2)):
        assert Filled.from_json(one.to_json()) == one
        assert one.is_untaken is one.has_stayed
    assert Filled("/a", 1, 2).to_json() == ["/a", [1], [2]]
