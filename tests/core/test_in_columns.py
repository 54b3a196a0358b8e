"""Values beside each other: what a table says where its cells would look alike; and what counts as lost on the way."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import pytest

from amphora.core.form.bindings import MISSING
from amphora.core.form.filled import Filled, filled_in
from amphora.core.form.places import Places
from amphora.render.changes import in_words
from amphora.render.history import whole_side
from amphora.render.in_columns import in_columns
from amphora.render.plain_values import PlainValues
from amphora.render.result import shown

LONG = "the first of many words that stand in both of these texts, "
CARDS = {"in": {"x": LONG, "y": 1}, "of": [5, {"at": "0 0 * * *", "zone": LONG}], "called": LONG}
NAMES = ["gate", "crew", "kilos", "batches", "varieties", "north", "variety"]
ENTRIES = [{"at": f"0 {n} * * *", "zone": "Europe/Athens"} for n in range(5)]


@pytest.mark.parametrize(
    ("values", "words"),
    [
        # As they are, where one sees that they differ, or where they don't.
        ((1, 2), ["1", "2"]),
        (([1], [1, 2]), ["[1]", "[1, 2]"]),
        ((ENTRIES, ENTRIES), None),
        ((MISSING, {"a": LONG}, MISSING), None),
        # Of lists what only some have; how often something stands there counts.
        ((ENTRIES, [*ENTRIES, "x"]), ["5 entries alike", "x, 5 entries alike"]),
        (([*ENTRIES, "x"], ENTRIES), ["x, 5 entries alike", "5 entries alike"]),
        ((ENTRIES, [*ENTRIES, "x"], MISSING), ["5 entries alike", "x, 5 entries alike", "(none)"]),
        (([*ENTRIES, 7], [7, *ENTRIES, ENTRIES[0]]), ["6 entries alike", '{"at": "0 0 * * *"']),
        (([LONG * 2, "a"], [LONG * 2, "b"]), ["a, 1 entry alike", "b, 1 entry alike"]),
        # Of what stands at the same place and differs in its parts, these; what was put in between is another entry.
        (([ENTRIES[0], CARDS], [ENTRIES[1], CARDS]), ['1: {"at": "0 0', '1: {"at": "0 1']),
        (([CARDS], [CARDS | {"in": {"x": LONG, "y": 2}}]), ["1: in: y: 1", "1: in: y: 2"]),
        (([CARDS], [CARDS | {"of": [1, *ENTRIES]}]), ["1: of: 5", "1: of: 1"]),
        ((ENTRIES[:3], [ENTRIES[0], ENTRIES[2], ENTRIES[1]]), ['from 2: [{"at": "0 1', 'from 2: [{"at": "0 2']),
        # As the order of named elements is told.
        ((NAMES, [NAMES[-1], *NAMES[:-1]]), ['["gate", "crew", "kilos"', '["variety", "gate", "crew"']),
        (([CARDS, *ENTRIES], [{"z": LONG}, *ENTRIES]), ['{"in": {"x"', '{"z": "the']),
        (([CARDS, *ENTRIES], [LONG, *ENTRIES]), ['{"in": {"x"', "the first of"]),
        # Of objects their members, of texts all from where they part.
        (({"a": LONG, "b": LONG, "c": 1}, {"a": LONG, "b": LONG, "c": 2}), ["c: 1, 2 members alike", "c: 2"]),
        (({"a": LONG}, {"a": LONG, "b": 1}), ["1 member alike", "b: 1, 1 member alike"]),
        ((f"{LONG}north{LONG}", f"{LONG}south{LONG}"), ["… texts, north", "… texts, south"]),
    ],
)  # fmt: skip
def test_one_sees_in_what_values_differ(values: tuple[Any, ...], words: list[str] | None) -> None:
    told = in_columns(values, lambda value: shown(value, 44))
    if words is None:
        assert told == [shown(value, 44) for value in values]
    else:
        assert [text[: len(part)] for text, part in zip(told, words, strict=True)] == words, told


def test_tokens_are_told_as_what_they_stand_for_wherever_they_stand() -> None:
    held = {"form": "amphora:form:Mill/Intake", "via": ["amphora:connection:mill-db"]}
    assert in_words(held, {"connection:mill-db": "mill"}) == '{"form": "form:Mill/Intake", …on mill-db)"]}'
    assert (
        in_words("see form('${amphora:form:Mill%20One}'), ${amphora:literal:x}", {})
        == "see form('form:Mill One'), ${amphora:x}"
    )
    assert in_words("amphora:literal:form:a", {}) == "amphora:form:a"


def test_what_is_empty_is_told_from_what_is_not_there() -> None:
    page = PlainValues({}, {})
    assert [page.told(value) for value in ("", MISSING, "a", [""])] == ['""', "", "a", '[\n ""\n]']
    record: Any = SimpleNamespace(bindings={})
    assert [whole_side(value, record) for value in ("", None, "a")] == ['""', None, "a"]


@pytest.mark.parametrize(
    ("asked", "found", "lost"),
    [
        ("words", "", True),
        ("words", MISSING, True),
        ("words", "other words", False),
        ({"a": 1}, {}, True),
        (7, None, True),
        # What is off, zero or empty may be left out, and what nobody said anything about is no loss.
        ((), MISSING, False),
        (0, MISSING, False),
        (False, None, False),
        (MISSING, "filled in", False),
        ("amphora:secret:pin", MISSING, False),
        ([1, 2], [1], True),
        ([1, 2], [], True),
        ([1, 1], [1], False),
        ([1, 2], [1, 3], False),
        ([1], [1, 2], False),
    ],
)
def test_what_is_not_there_at_all_is_lost(asked: Any, found: Any, lost: bool) -> None:
    assert Filled("/a", asked, found).is_lost is lost


def test_a_loss_is_found_where_it_stands() -> None:
    off = filled_in({"a": {"b": [1, 2], "c": "x"}, "d": 1}, {"a": {"b": [2], "c": "x", "e": 0}, "d": 1}, Places(()))
    assert [(one.at, one.is_lost, one.is_added) for one in off] == [("/a/b", True, False), ("/a/e", False, True)]
