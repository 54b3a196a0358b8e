"""Three-way comparison: a table of cases, and laws."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.bindings import MISSING, Bindings, IdStyle
from amphora.core.canon import same
from amphora.core.compare import Base, compare_item
from amphora.core.kinds import parse_sheet
from amphora.core.merge import By, Merge, merged_order, no_choice
from amphora.core.model import Item, States

SHEET = parse_sheet('kind = "flow"\n[fields]\nnamed = { "$.steps" = "id" }\nunordered = ["$.tags"]')

Case = tuple[Any, Any, Any, Any, list[tuple[str, str]]]
CASES: dict[str, Case] = {
    "nothing changed": ({"a": 1}, {"a": 1}, {"a": 1}, {"a": 1}, []),
    "the package changed": ({"a": 1}, {"a": 1}, {"a": 2}, {"a": 2}, [("/a", "package")]),
    "the target changed": ({"a": 1}, {"a": 3}, {"a": 1}, {"a": 3}, [("/a", "target")]),
    "both alike": ({"a": 1}, {"a": 2}, {"a": 2}, {"a": 2}, [("/a", "both alike")]),
    "clash": ({"a": 1}, {"a": 2}, {"a": 3}, {"a": 2}, [("/a", "both, differently")]),
    "different fields": ({"a": 1, "b": 1}, {"a": 2, "b": 1}, {"a": 1, "b": 2}, {"a": 2, "b": 2}, [("/a", "target"), ("/b", "package")]),
    "added by the package": ({}, {}, {"a": 1}, {"a": 1}, [("/a", "package")]),
    "removed by the package": ({"a": 1}, {"a": 1}, {}, {}, [("/a", "package")]),
    "removed against edited": ({"a": 1}, {"a": 2}, {}, {"a": 2}, [("/a", "both, differently")]),
    "null is a value": ({"a": 1}, {"a": 1}, {"a": None}, {"a": None}, [("/a", "package")]),
    "true is not one": ({"a": 1}, {"a": 1}, {"a": True}, {"a": True}, [("/a", "package")]),
    "nested": ({"a": {"b": 1, "c": 1}}, {"a": {"b": 2, "c": 1}}, {"a": {"b": 1, "c": 2}}, {"a": {"b": 2, "c": 2}}, [("/a/b", "target"), ("/a/c", "package")]),
    "element added on both sides": (
        {"steps": [{"id": "a"}]},
        {"steps": [{"id": "a"}, {"id": "t"}]},
        {"steps": [{"id": "p"}, {"id": "a"}]},
        {"steps": [{"id": "p"}, {"id": "a"}, {"id": "t"}]},
        [("/steps/p", "package"), ("/steps/t", "target")],
    ),
    "element edited here, moved there": (
        {"steps": [{"id": "a", "n": 1}, {"id": "b"}]},
        {"steps": [{"id": "a", "n": 2}, {"id": "b"}]},
        {"steps": [{"id": "b"}, {"id": "a", "n": 1}]},
        {"steps": [{"id": "b"}, {"id": "a", "n": 2}]},
        [("/steps/a/n", "target"), ("/steps (order)", "package")],
    ),
    "element removed against edited": (
        {"steps": [{"id": "a", "n": 1}]},
        {"steps": [{"id": "a", "n": 2}]},
        {"steps": []},
        {"steps": [{"id": "a", "n": 2}]},
        [("/steps/a", "both, differently")],
    ),
    "plain arrays are one field": ({"l": [1, 2]}, {"l": [1, 2, 3]}, {"l": [1, 2]}, {"l": [1, 2, 3]}, [("/l", "target")]),
    "secrets are not compared": ({"t": "amphora:secret:x"}, {}, {"t": "amphora:secret:x"}, {"t": "amphora:secret:x"}, []),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_who_changed_what_and_what_comes_of_it(name: str) -> None:
    base, target, package, merged, changes = CASES[name]
    merge = Merge(True, no_choice, [])
    assert merge.merge(base, target, package, SHEET.places.walk(package)) == merged
    assert [(change.place, change.by.value) for change in merge.changes] == changes


@pytest.mark.parametrize(
    ("choice", "value"),
    [("package", 3), ("target", 2), ("last-delivered", 1), ({"value": 9}, 9)],
)
def test_a_choice_decides_a_clash(choice: Any, value: int) -> None:
    merge = Merge(True, lambda place, by: choice, [])
    merged = merge.merge({"a": 1}, {"a": 2}, {"a": 3}, SHEET.places.walk({}))
    assert merged == {"a": value}
    assert not merge.changes[0].is_open


def test_without_a_base_what_differs_is_of_unknown_origin() -> None:
    merge = Merge(False, no_choice, [])
    assert merge.merge(MISSING, {"a": 1, "b": 1}, {"a": 2, "b": 1}, SHEET.places.walk({})) == {"a": 1, "b": 1}
    assert [(change.place, change.by, change.is_open) for change in merge.changes] == [("/a", By.UNKNOWN, True)]


FORMS = st.fixed_dictionaries(
    {},
    optional={
        "a": st.integers(0, 2) | st.none(),
        "n": st.fixed_dictionaries({}, optional={"b": st.integers(0, 2)}),
        "l": st.lists(st.integers(0, 1), max_size=2),
        "steps": st.lists(
            st.fixed_dictionaries({"id": st.sampled_from("abcd")}, optional={"v": st.integers(0, 2)}),
            max_size=4,
            unique_by=lambda step: step["id"],
        ),
    },
)


def merged(base: Any, target: Any, package: Any) -> tuple[Any, Merge]:
    merge = Merge(True, no_choice, [])
    return merge.merge(base, target, package, SHEET.places.walk({})), merge


@given(FORMS, FORMS)
def test_merging_with_an_unchanged_side_gives_the_other(base: Any, changed: Any) -> None:
    assert same(merged(base, base, changed)[0], changed)
    assert same(merged(base, changed, base)[0], changed)


@given(FORMS, FORMS, FORMS)
def test_merging_is_symmetric_but_for_clashes_and_order(base: Any, one: Any, two: Any) -> None:
    left, merge = merged(base, one, two)
    right, _ = merged(base, two, one)
    touched = {By.CLASH} & {change.by for change in merge.changes}
    if not touched:
        assert same(_sorted(left), _sorted(right))


def _sorted(form: Any) -> Any:
    steps = sorted(form.get("steps", []), key=lambda step: step["id"])
    return {**form, "steps": steps} if "steps" in form else form


@given(
    st.permutations("abc"),
    st.lists(st.sampled_from("abcxyz"), unique=True),
    st.lists(st.sampled_from("abcuvw"), unique=True),
)
def test_merged_order_keeps_everything_of_both(base: list[str], target: list[str], package: list[str]) -> None:
    assert set(merged_order(base, target, package)) == set(target) | set(package)


def item(form: Any, title: str = "Alert", on: bool = True) -> Item:
    return Item("flow:alert", 1, form, States(title, "mill", on, True))


def names(limit: float) -> Bindings:
    return Bindings(IdStyle(r"fl-[0-9]+", "#"), {"setting:limit": limit})


def test_a_changed_binding_is_a_change_of_the_crosswalk() -> None:
    form = {"limit": "amphora:setting:limit", "note": "x"}
    base = Base(form, item(form).states, {"setting:limit": 0.5})
    comparison = compare_item(item(form), item(form), base, SHEET, names(0.8))
    assert [(c.place, c.by, c.target) for c in comparison.changes] == [("/limit", By.CROSSWALK, 0.5)]
    assert comparison.form == form
    edited = compare_item(item(form), item({"limit": 0.9, "note": "x"}), base, SHEET, names(0.8))
    assert [(c.place, c.by) for c in edited.changes] == [("/limit", By.CLASH)]
    unchanged = compare_item(item(form), item(form), base, SHEET, names(0.5))
    assert unchanged.changes == ()


def test_states_are_merged_like_fields() -> None:
    base = Base({}, States("Alert", "mill", True, True), {})
    switched_off = item({}, on=False)
    renamed = item({}, title="Acidity alert")
    comparison = compare_item(renamed, switched_off, base, SHEET, names(1))
    assert comparison.states == States("Acidity alert", "mill", False, True)
    assert [(c.place, c.by) for c in comparison.changes] == [("state:title", By.PACKAGE), ("state:on", By.TARGET)]
