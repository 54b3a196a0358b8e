"""Conversions: one rule on one document, whole routes, packages under a renamed kind; and that nothing is lost on the way
back, whatever stands in a definition."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.conversions import (
    Conversion,
    _lost,
    backwards,
    forwards,
    layout_backwards,
    layout_forwards,
)
from amphora.core.form.kinds import KindSheet, parse_sheet, sheets_in_force
from amphora.core.form.routes import converted_contents, routes_to, told
from amphora.core.values.model import Contents, Item, Need, States
from amphora.practice.sheets import practice_sheets, sheets_of

GOLDEN = json.loads((Path(__file__).parents[1] / "files" / "shapes.json").read_text())

ASSESSMENT = """
kind = "assessment"
schema = 3
[[conversion]]
from = 1
to = 2
rename_kind = "quiz"
move = { "$.mailTo" = "$.notify.address" }
drop = ["$.colour"]
set = { "$.tries" = 3, "$.look.font" = "plain" }
[[conversion]]
from = 2
to = 3
each = "$.questions[*]"
split = { "$.range" = { at = "-", into = ["$.low", "$.high"] } }
move = { "$.x" = "$.at.x" }
"""


def sheet(text: str) -> KindSheet:
    return parse_sheet(text)


def rule(text: str) -> Conversion:
    return sheet(f'kind = "quiz"\nschema = 2\n[[conversion]]\nfrom = 1\nto = 2\n{text}').conversions[0]


QUIZ, NEW = sheet('kind = "quiz"\nschema = 1'), sheet(ASSESSMENT)
FIRST, SECOND = NEW.conversions

FORWARDS: list[tuple[Conversion, Any, Any]] = [
    # What held it, and nothing else, goes with it, however deep it was.
    (rule('move = { "$.a.b.c.d" = "$.e" }'), {"a": {"b": {"c": {"d": 1}}}, "f": 2}, {"e": 1, "f": 2}),
    (rule('move = { "$.a.b.c" = "$.e" }'), {"a": {"b": {"c": 1}, "x": 3}}, {"a": {"x": 3}, "e": 1}),
    (FIRST, {"mailTo": "a"}, {"notify": {"address": "a"}, "tries": 3, "look": {"font": "plain"}}),
    (FIRST, {"tries": 3, "look": {}}, {"tries": 3, "look": {"font": "plain"}}),
    (FIRST, {"notify": {"by": 1}, "mailTo": None}, None),
    (SECOND, {"questions": [{"range": "1-2-3", "x": 1}, {"range": "7"}, {}]}, None),
    (rule('move = { "$.a" = "$.b", "$.b.c" = "$.d" }'), {"a": {"c": 1, "e": 2}}, {"b": {"e": 2}, "d": 1}),
    (rule('move = { "$.a.b" = "$.c" }'), {"a": {"b": []}}, {"c": []}),
    (rule('move = { "$.m[*].a" = "$.m[*].b" }'), {"m": {"x": {"a": 1}, "y": 2}}, {"m": {"x": {"b": 1}, "y": 2}}),
    (rule('set = { "$.m[*].a" = [] }'), {"m": [{"b": 1}, {}, 3]}, {"m": [{"b": 1, "a": []}, {"a": []}, 3]}),
    (rule('split = { "$.a" = { at = ", ", into = ["$.a", "$.b"] } }'), {"a": "x, y, z"}, {"a": "x", "b": "y, z"}),
    (rule('split = { "$.a" = { at = ":", into = ["$.b", "$.c"] } }'), {"a": "amphora:flow:x"}, {"b": "amphora:flow:x"}),
]  # fmt: skip


@pytest.mark.parametrize(("conversion", "older", "newer"), FORWARDS)
def test_what_goes_forwards_comes_back(conversion: Conversion, older: Any, newer: Any) -> None:
    before = json.dumps(older)
    found, traces = forwards(older, conversion)
    assert (traces.unfit, json.dumps(older)) == ([], before)
    if newer is not None:
        assert found == newer
    back, traces = backwards(found, conversion)
    assert traces.unfit == []
    assert forwards(back, conversion)[0] == found


def test_what_was_done_is_counted_and_what_is_dropped_is_named() -> None:
    found, traces = forwards({"mailTo": "a", "colour": "red", "look": {"font": "wide"}}, FIRST)
    assert (traces.moved, traces.filled, traces.dropped) == (1, 1, [("/colour", "red")])
    assert "colour" not in found
    _, traces = forwards({"questions": [{"range": "1-2"}, {"range": "3"}]}, SECOND)
    assert traces.split == 2


UNFIT: list[tuple[Conversion, Any, bool, str]] = [
    (rule('move = { "$.a" = "$.b" }'), {"a": 1, "b": 2}, True, "/a"),
    (rule('move = { "$.a" = "$.b.c" }'), {"a": 1, "b": "text"}, True, "/a"),
    (rule('split = { "$.a" = { at = ",", into = ["$.b", "$.c"] } }'), {"a": 7}, True, "/a"),
    (rule('split = { "$.a" = { at = ":", into = ["$.b", "$.c"] } }'), {"a": "to ${amphora:person:x}: y"}, True, "/a"),
    (FIRST, {"tries": 5, "look": {"font": "plain"}}, False, "/tries"),
    (FIRST, {"tries": 3, "look": {"font": "wide"}}, False, "/look/font"),
    (FIRST, {"tries": 3}, False, "/look"),
    (FIRST, {"tries": 3, "look": {"font": "plain"}, "colour": "red"}, False, "/colour"),
    (FIRST, {"tries": 3, "look": {"font": "plain"}, "mailTo": 1}, False, "/mailTo"),
    (SECOND, {"questions": [{"low": "1-2", "high": "3"}]}, False, "/questions/0/low"),
    (SECOND, {"questions": [{}, {"high": "3"}]}, False, "/questions/1/high"),
    (SECOND, {"questions": [{"low": 1, "high": "3"}]}, False, "/questions/0/high"),
]  # fmt: skip


@pytest.mark.parametrize(("conversion", "form", "is_forward", "place"), UNFIT)
def test_what_has_no_room_is_named(conversion: Conversion, form: Any, is_forward: bool, place: str) -> None:
    _, traces = (forwards if is_forward else backwards)(form, conversion)
    assert place in dict(traces.unfit)


SCALARS = st.none() | st.integers(-2, 3) | st.sampled_from(["", "a", "1-2", "plain", "-", "amphora:flow:x"])
NAMES = st.sampled_from(
    ["mailTo", "notify", "address", "colour", "tries", "look", "font", "questions", "range", "low"]
)
FORMS = st.dictionaries(
    NAMES, st.recursive(SCALARS, lambda part: st.lists(part, max_size=2) | st.dictionaries(NAMES, part, max_size=3))
)


@pytest.mark.parametrize(
    ("one", "other", "place"), [([1, 2], [1], "/a"), ([1], {"0": 1}, "/a"), ([1, 2], [1, 3], "/a/1")]
)
def test_what_an_older_shape_can_not_hold_is_named_where_it_is(one: Any, other: Any, place: str) -> None:
    assert list(_lost({"a": one}, {"a": other}, ())) == [(place, "the older shape can't hold this value")]


@given(FORMS, st.sampled_from([FIRST, SECOND]))
def test_back_and_forwards_again_is_the_same_or_said_to_be_lost(form: Any, conversion: Conversion) -> None:
    older, traces = backwards(form, conversion)
    if not traces.unfit:
        assert forwards(older, conversion)[0] == form


def packed(*items: Item, **more: Any) -> Contents:
    return Contents("p", "1.0.0", "dev", "uid", {item.key: item for item in items}, **{"needs": (), **more})


def test_a_package_is_taken_over_several_versions_under_another_name_and_back() -> None:
    old = Item("quiz:a", 1, {"mailTo": "x", "next": "amphora:quiz:b#q1", "colour": 1}, States("A"), {"x": {"y": 1}})
    text = "see ${amphora:quiz:b} and ${amphora:literal:quiz:b}, not amphora:quiz:b"
    user = Item("flow:f", 1, {"t": text, "u": "amphora:literal:quiz:a"}, States("F"))
    more = {
        "needs": (Need("quiz:b", ("quiz:a",)), Need("person:x", ("quiz:a",))),
        "bases": {"quiz:a": ({"mailTo": "y"}, States("A"))},
        "notes": {"quiz:a": "mind"},
    }
    contents = packed(old, user, **more)
    sheets = {"assessment": NEW, "flow": sheet('kind = "flow"')}
    found, done, keys = converted_contents(contents, sheets, [QUIZ])
    assert keys == {"quiz:a": "assessment:a"}
    assert [(one.key, one.before, one.after) for one in done] == [("assessment:a", ("quiz", 1), ("assessment", 3))]
    assert told(done) == [
        "quiz becomes assessment, schema 1 to 3: 1 item, 1 field moved, 2 fields filled in, 1 field dropped"
    ]
    item = found.items["assessment:a"]
    assert (item.schema, item.kind) == (3, "assessment")
    assert item.form == {
        "notify": {"address": "x"},
        "next": "amphora:assessment:b#q1",
        "tries": 3,
        "look": {"font": "plain"},
    }
    assert found.items["flow:f"].form == {
        "t": text.replace("{amphora:quiz", "{amphora:assessment"),
        "u": user.form["u"],
    }
    assert [(need.key, need.used_by) for need in found.needs] == [
        ("assessment:b", ("assessment:a",)),
        ("person:x", ("assessment:a",)),
    ]
    assert found.bases["assessment:a"][0]["notify"] == {"address": "y"}
    assert found.notes == {"assessment:a": "mind"}
    back, done, keys = converted_contents(found, {"quiz": QUIZ, "flow": sheets["flow"]}, [NEW])
    assert keys == {"assessment:a": "quiz:a"}
    assert back.items["quiz:a"].form == {"mailTo": "x", "next": "amphora:quiz:b#q1"}
    assert back.items["flow:f"] == user
    assert told(done) == [
        "assessment becomes quiz, schema 3 to 1: 1 item, 1 field moved, 2 fields left to the default"
    ]


def test_what_does_not_fit_stays_as_it_is_and_is_named_under_the_name_that_it_would_have() -> None:
    wide = Item("assessment:a", 3, {"tries": 9}, States("A"))
    fits = Item("assessment:b", 3, {"tries": 3, "look": {"font": "plain"}}, States("B"))
    found, done, _ = converted_contents(packed(wide, fits), {"quiz": QUIZ}, [NEW])
    assert [(one.key, bool(one.unfit)) for one in done] == [("quiz:a", True), ("quiz:b", False)]
    assert (found.items["quiz:a"].schema, found.items["quiz:a"].form) == (3, {"tries": 9})
    assert found.items["quiz:b"].schema == 1
    assert len(told(done)) == 1


def test_without_a_way_nothing_is_touched_and_the_target_s_own_rules_count_first() -> None:
    contents = packed(Item("quiz:a", 7, {}, States("A")))
    assert converted_contents(contents, {"assessment": NEW}, [QUIZ])[0] == contents
    theirs = sheet('kind = "quiz"\nschema = 2\n[[conversion]]\nfrom = 1\nto = 2\nmove = { "$.a" = "$.b" }')
    mine = sheet('kind = "quiz"\nschema = 2\n[[conversion]]\nfrom = 1\nto = 2\nmove = { "$.a" = "$.c" }')
    found, _, _ = converted_contents(packed(Item("quiz:a", 1, {"a": 1}, States("A"))), {"quiz": theirs}, [mine])
    assert found.items["quiz:a"].form == {"b": 1}
    uncarried = sheet('kind = "quiz"\nschema = 2\ncarried = false\n[[conversion]]\nfrom = 1\nto = 2')
    assert routes_to({"quiz": uncarried}, []) == {}


def test_a_sheet_over_another_keeps_what_leads_from_shape_to_shape() -> None:
    mine = sheet('kind = "assessment"\ntitle = "Mine"')
    own = sheet('kind = "assessment"\nschema = 2\n[[conversion]]\nfrom = 1\nto = 2')
    found = sheets_in_force([NEW], [mine])["assessment"]
    assert (found.title, found.conversions) == ("Mine", NEW.conversions)
    assert sheets_in_force([NEW], [own])["assessment"].conversions == own.conversions


def test_positions_go_with_what_they_are_positions_of() -> None:
    conversion = rule('move = { "$.pages" = "$.screens", "$.screens[*].x" = "$.screens[*].left" }\ndrop = ["$.old"]')
    layout = {"pages": {"a": {"x": 1, "y": 2}}, "old": {"x": 3}}
    moved = layout_forwards(layout, conversion)
    assert moved == {"screens": {"a": {"left": 1, "y": 2}}}
    assert layout_backwards(moved, conversion) == {"pages": {"a": {"x": 1, "y": 2}}}


@pytest.mark.parametrize("kind", sorted(GOLDEN))
def test_shapes_of_earlier_releases_stay_convertible(kind: str) -> None:
    """The golden forms of each version: what a release once wrote is taken to every later version and back."""
    newest = practice_sheets()
    for older in GOLDEN[kind]:
        for newer in GOLDEN[kind]:
            wanted = sheets_of({"app": 0, "skin": 0, "access-rule": 0}) if newer["schema"] == 0 else newest
            item = Item(f"{older.get('kind', kind)}:house/x", older["schema"], older["form"], States("X"))
            theme = Item(f"{'skin' if older['schema'] == 0 else 'theme'}:house/y", older["schema"], {}, States("Y"))
            theme = Item(theme.key, older["schema"], GOLDEN["theme"][older["schema"]]["form"], States("Y"))
            found, _, _ = converted_contents(packed(item, theme), wanted, newest.values())
            assert found.items[f"{newer.get('kind', kind)}:house/x"].form == newer["form"]
