"""Three-way comparison: a table of cases, and laws."""

from __future__ import annotations

import random
import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.bindings import MISSING, Bindings, IdStyle
from amphora.core.form.kinds import parse_sheet
from amphora.core.merge.compare import Base, compare_item
from amphora.core.merge.lines import merge_texts
from amphora.core.merge.merge import By, Merge, differences, merged_order, no_choice
from amphora.core.plan.actions import Do, decide
from amphora.core.values.canon import same
from amphora.core.values.model import Item, Listed, States
from amphora.engine.versions import next_version

SHEET = parse_sheet(
    'kind = "flow"\n[fields]\nnamed = { "$.steps" = "id", "$.people" = "id" }\nunordered = ["$.people"]\ntext = ["$.script"]'
)


def steps(names: str, **members: Any) -> Any:
    """A form with these steps; `members` gives the member `n` of some."""
    return {"steps": [{"id": name} | ({"n": members[name]} if name in members else {}) for name in names]}


def script(*lines: str) -> Any:
    return {"script": "".join(line + "\n" for line in lines)}


DIFFERENT, ALIKE, LINES = "both, differently", "both alike", "both, in different lines"

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
    "both removed": ({"a": 1}, {}, {}, {}, [("/a", ALIKE)]),
    "both added alike": ({}, {"a": 1}, {"a": 1}, {"a": 1}, [("/a", ALIKE)]),
    "both added differently": ({}, {"a": 1}, {"a": 2}, {"a": 1}, [("/a", DIFFERENT)]),
    "removed by the target": ({"a": 1}, {}, {"a": 1}, {}, [("/a", "target")]),
    "removed there, edited here": ({"a": 1}, {}, {"a": 2}, {}, [("/a", DIFFERENT)]),
    "an object becomes a value": ({"a": {"b": 1}}, {"a": {"b": 1}}, {"a": 7}, {"a": 7}, [("/a", "package")]),
    "an object becomes a value, edited there": ({"a": {"b": 1}}, {"a": {"b": 2}}, {"a": 7}, {"a": {"b": 2}}, [("/a", DIFFERENT)]),
    "an object removed, another member added there": ({"a": {"b": 1}}, {"a": {"b": 1, "c": 1}}, {}, {"a": {"b": 1, "c": 1}}, [("/a", DIFFERENT)]),
    "objects added on both sides": ({}, {"a": {"b": 1}}, {"a": {"c": 2}}, {"a": {"b": 1, "c": 2}}, [("/a/b", "target"), ("/a/c", "package")]),
    "one is one point nought": ({"a": 1}, {"a": 1.0}, {"a": 1}, {"a": 1.0}, []),
    "moved by the package": (steps("abc"), steps("abc"), steps("cab"), steps("cab"), [("/steps (order)", "package")]),
    "moved by the target": (steps("abc"), steps("cab"), steps("abc"), steps("cab"), [("/steps (order)", "target")]),
    "moved on both sides alike": (steps("abc"), steps("cab"), steps("cab"), steps("cab"), []),
    "moved on both sides differently": (steps("abc"), steps("cab"), steps("bac"), steps("cab"), [("/steps (order)", DIFFERENT)]),
    "moved there, added here": (steps("ab"), steps("ba"), steps("abp"), steps("bpa"), [("/steps/p", "package"), ("/steps (order)", "target")]),
    "moved here, added there": (steps("ab"), steps("abt"), steps("ba"), steps("bta"), [("/steps/t", "target"), ("/steps (order)", "package")]),
    "removed here, added there": (steps("ab"), steps("abt"), steps("a"), steps("at"), [("/steps/b", "package"), ("/steps/t", "target")]),
    "removed on both sides": (steps("abc"), steps("ac"), steps("ac"), steps("ac"), [("/steps/b", ALIKE)]),
    "different elements removed": (steps("abc"), steps("ab"), steps("bc"), steps("b"), [("/steps/c", "target"), ("/steps/a", "package")]),
    "two elements of one name added": (steps("a"), steps("ax", x=1), steps("ax", x=2), steps("ax", x=1), [("/steps/x/id", ALIKE), ("/steps/x/n", DIFFERENT)]),
    "different elements edited": (steps("ab", a=1, b=1), steps("ab", a=2, b=1), steps("ab", a=1, b=2), steps("ab", a=2, b=2), [("/steps/a/n", "target"), ("/steps/b/n", "package")]),
    "one element edited on both sides": (steps("a", a=1), steps("a", a=2), steps("a", a=3), steps("a", a=2), [("/steps/a/n", DIFFERENT)]),
    "removed there against edited here": (steps("a", a=1), {"steps": []}, steps("a", a=2), {"steps": []}, [("/steps/a", DIFFERENT)]),
    "added at the same place": (steps("ab"), steps("atb"), steps("apb"), steps("aptb"), [("/steps/p", "package"), ("/steps/t", "target")]),
    "an unordered array moved": ({"people": [{"id": "a"}, {"id": "b"}]}, {"people": [{"id": "b"}, {"id": "a"}]}, {"people": [{"id": "a"}, {"id": "b"}]}, {"people": [{"id": "a"}, {"id": "b"}]}, []),
    "lines in different places": (script("a", "b", "c", "d"), script("A", "b", "c", "d"), script("a", "b", "c", "D"), script("A", "b", "c", "D"), [("/script", LINES)]),
    "the same line": (script("a", "b"), script("x", "b"), script("y", "b"), script("x", "b"), [("/script", DIFFERENT)]),
    "neighbouring lines": (script("a", "b"), script("A", "b"), script("a", "B"), script("A", "b"), [("/script", DIFFERENT)]),
    "lines changed alike and elsewhere": (script("a", "b", "c"), script("A", "b", "c"), script("A", "b", "C"), script("A", "b", "C"), [("/script", LINES)]),
    "a line removed, one added elsewhere": (script("a", "b", "c", "d"), script("b", "c", "d"), script("a", "b", "c", "d", "e"), script("b", "c", "d", "e"), [("/script", LINES)]),
    "a text against its removal": (script("a", "b"), script("A", "b"), {}, script("A", "b"), [("/script", DIFFERENT)]),
    "lines at a place that is no text": ({"note": "a\nb\nc\n"}, {"note": "A\nb\nc\n"}, {"note": "a\nb\nC\n"}, {"note": "A\nb\nc\n"}, [("/note", DIFFERENT)]),
    "plain arrays changed on both sides": ({"l": [1]}, {"l": [1, 2]}, {"l": [0, 1]}, {"l": [1, 2]}, [("/l", DIFFERENT)]),
    "a secret beside a change": ({"t": "amphora:secret:x", "a": 1}, {"a": 1}, {"t": "amphora:secret:x", "a": 2}, {"t": "amphora:secret:x", "a": 2}, [("/a", "package")]),
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


@pytest.mark.parametrize(("choice", "names"), [("package", "bac"), ("target", "cab"), ("last-delivered", "abc")])
def test_a_choice_decides_an_order(choice: str, names: str) -> None:
    merge = Merge(True, lambda place, by: choice, [])
    assert merge.merge(steps("abc"), steps("cab"), steps("bac"), SHEET.places.walk({})) == steps(names)


def test_at_least_forty_cases_are_tried() -> None:
    assert len(CASES) >= 40


def _edited(dice: random.Random, lines: list[str], words: list[str]) -> list[str]:
    lines = list(lines)
    for _ in range(dice.randint(0, 4)):
        place, kind = dice.randint(0, len(lines)), dice.random()
        if kind < 0.4:
            lines.insert(place, dice.choice(words))
        elif kind < 0.7 and place < len(lines):
            lines[place] = dice.choice(words)
        else:
            del lines[place : place + dice.randint(1, 2)]
    return lines


def test_line_merges_agree_with_git_on_500_triples(tmp_path: Path) -> None:
    clashes = 0
    for seed in range(500):
        dice = random.Random(seed)
        words = [f"line {number}\n" for number in range(dice.choice([8, 30, 200]))]
        base = [dice.choice(words) for _ in range(dice.randint(0, 14))]
        sides = [base, _edited(dice, base, words), _edited(dice, base, words)]
        texts = ["".join(side) for side in sides]
        for name, text in zip(("base", "ours", "theirs"), texts, strict=True):
            (tmp_path / name).write_text(text)
        command = ["git", "merge-file", "-p", "ours", "base", "theirs"]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
        expected = done.stdout if done.returncode == 0 else None
        assert merge_texts(*texts) == expected, (seed, texts)
        clashes += expected is None
    assert 50 < clashes < 450


@given(st.lists(st.sampled_from("abc\n"), max_size=12), st.lists(st.sampled_from("abc\n"), max_size=12))
def test_a_text_merged_with_an_unchanged_one_is_the_other(one: list[str], two: list[str]) -> None:
    base, changed = "".join(one), "".join(two)
    assert merge_texts(base, base, changed) == changed
    assert merge_texts(base, changed, base) == changed
    assert merge_texts(base, changed, changed) == changed


def test_without_a_base_what_differs_is_of_unknown_origin() -> None:
    merge = Merge(False, no_choice, [])
    assert merge.merge(MISSING, {"a": 1, "b": 1}, {"a": 2, "b": 1}, SHEET.places.walk({})) == {"a": 1, "b": 1}
    assert [(change.place, change.by, change.is_open) for change in merge.changes] == [("/a", By.UNKNOWN, True)]


def test_every_difference_of_two_sides_is_told_with_both() -> None:
    left, right = {"a": 1, "b": 1, "gone": 1}, {"a": 2, "b": 1, "new": [1]}
    found = {c.place: (c.target, c.package) for c in differences(left, right, SHEET.places.walk({}))}
    assert found == {"/a": (1, 2), "/gone": (1, MISSING), "/new": (MISSING, [1])}
    assert differences(left, left, SHEET.places.walk({})) == []


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


@pytest.mark.parametrize(
    ("left", "there", "packed", "choice", "does", "reason"),
    [
        (1, 1, 1, None, Do.LEAVE, "the same"),
        (1, 2, 1, None, Do.LEAVE, "changed only in the target"),
        (1, 1, 2, None, Do.UPDATE, "changed in p 2.0.0"),
        (1, 2, 3, "target", Do.LEAVE, "left as it is, as decided"),
        (1, 2, 3, "package", Do.UPDATE, "changed in p 2.0.0"),
        (1, 2, 1, "last-delivered", Do.UPDATE, "put back to what was delivered, as decided"),
        (None, 2, 3, "package", Do.UPDATE, "differs, and was not delivered by Amphora"),
    ],
)
def test_what_is_done_with_an_item_and_why(
    left: int | None, there: int, packed: int, choice: str | None, does: Do, reason: str
) -> None:
    base = None if left is None else Base({"a": left}, States("Alert", "mill", True, True), {})
    comparison = compare_item(
        item({"a": packed}), item({"a": there}), base, SHEET, names(1), lambda place, by: choice
    )
    action = decide(comparison, item({"a": packed}), Listed("n", "flow", ("a",), States("Alert"), "1"), "p 2.0.0")
    assert (action.do, action.reason) == (does, reason)


@pytest.mark.parametrize(
    ("packed", "there", "is_moved"),
    [(None, {"x": 1}, False), ({"x": 1}, {"x": 1}, False), ({"x": 2}, {"x": 1}, True), ({"x": 2}, None, True)],
)
def test_that_something_was_moved_on_its_canvas_is_a_note(packed: Any, there: Any, is_moved: bool) -> None:
    sides = (replace(item({"a": 1}), _layout=packed), replace(item({"a": 1}), _layout=there))
    comparison = compare_item(*sides, Base({"a": 1}, States("Alert", "mill", True, True), {}), SHEET, names(1))
    assert (comparison.is_layout_moved, comparison.changes) == (is_moved, ())


@pytest.mark.parametrize(
    ("now", "version"),
    [
        ({"a": script("x")}, "1.2.4"),
        ({"a": script("y")}, "1.2.4"),
        ({"a": steps("p")}, "1.3.0"),
        ({"a": script("x"), "b": {}}, "1.3.0"),
        ({"b": {}}, "2.0.0"),
    ],
)
def test_a_version_says_how_much_has_changed(now: dict[str, Any], version: str) -> None:
    items = {f"flow:{name}": Item(f"flow:{name}", 1, form, States(name)) for name, form in now.items()}
    assert next_version("1.2.3", [("flow:a", script("x"))], items, {"flow": SHEET}) == version
