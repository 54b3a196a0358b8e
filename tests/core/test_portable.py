"""The portable form: both laws on generated definitions, guides, parts, settings, secrets, escapes."""

from __future__ import annotations

import json
import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.hollow import hollowed, loosened
from amphora.core.form.kinds import parse_sheet, sheets_in_force
from amphora.core.form.native import to_native
from amphora.core.form.portable import Portable, to_portable
from amphora.core.form.spots import feature_values, mask_secrets, masked_places, part_ids
from amphora.core.merge.layout import to_lay
from amphora.core.values.errors import SheetFault
from amphora.core.values.model import Json
from amphora.core.values.tokens import MASK, parse_token, token_for

SHEET = parse_sheet(
    """
kind = "flow"
schema = 3
[[refers]]
at = "$.steps[*].connection"
to = ["connection"]
[[refers]]
at = "$.steps[*].to"
to = ["person"]
[[refers]]
at = "$.column"
to = ["table#column"]
[fields]
parts = { step = "$.steps[*].id" }
named = { "$.steps" = "id" }
unordered = ["$.tags", "$.bag"]
text = ["$.steps[*].script"]
settings = { "$.limit" = "number" }
layout = ["$.steps[*].x"]
volatile = ["$.run_count", "$.steps[*].seen"]
secret = ["$.hook.token", "$.env[?@.type == 'cred'].value"]
files = ["$.icon"]
features = ["$.uses"]
"""
)
PRACTICE = IdStyle(r"(?:ta|fl|cn)-[0-9a-z]{4}", "#")


def bindings() -> Bindings:
    names = Bindings(PRACTICE)
    for key, value in {
        "table:intake/deliveries": "ta-0001",
        "flow:self": "fl-0001",
        "connection:mill-db": "cn-0001",
        "connection:second-name": "cn-0001",
        "person:desk": "desk@halcyon.example",
        "setting:x-limit": 3,
        "url:site": "https://dev.halcyon.example",
        "url:longer": "https://dev.halcyon.example/shop",
    }.items():
        names.bind(key, value)
    return names


WORDS = st.sampled_from(
    [
        "",
        "plain",
        "ta-0001",
        "see ta-0001, not ta-00012 or xta-0001",
        "amphora:flow:x",
        "${amphora:table:x}",
        "amphora:masked",
        "https://dev.halcyon.example/open/ta-0001",
        "https://dev.halcyon.example.org and https://dev.halcyon.example/shop/7",
        "amphora:literal:${amphora:literal:x}",
        "${amphora:",
        "cn-0001#x",
    ]
)
SCALARS = st.none() | st.booleans() | st.integers(-5, 5) | st.floats(0.25, 0.75) | WORDS
STEPS = st.lists(
    st.fixed_dictionaries(
        {"id": st.sampled_from("abcdef"), "script": WORDS},
        optional={
            "connection": st.sampled_from(["cn-0001", "cn-9999", ""]),
            "to": st.sampled_from(["desk@halcyon.example", "new@halcyon.example"]),
            "x": st.integers(0, 9),
            "seen": st.integers(0, 9),
            "loose": WORDS,
        },
    ),
    max_size=4,
    unique_by=lambda step: step["id"],
)
DEFINITIONS = st.fixed_dictionaries(
    {"steps": STEPS},
    optional={
        "limit": st.integers(0, 5) | WORDS,
        "column": st.sampled_from(["ta-0001#variety", "ta-7777#x", ""]),
        "run_count": st.integers(0, 9),
        "hook": st.fixed_dictionaries({"token": st.sampled_from(["s3cret", ""]), "path": WORDS}),
        "tags": st.lists(st.sampled_from(["b", "a", "ta-0001"]), max_size=3, unique=True),
        "free": st.dictionaries(st.sampled_from("pq"), SCALARS | st.lists(SCALARS, max_size=2), max_size=2),
        "icon": st.sampled_from(["data:image/png;base64,AAEC", "none"]),
        "env": st.lists(
            st.fixed_dictionaries({"type": st.sampled_from(["cred", "str"]), "value": WORDS}), max_size=2
        ),
    },
)


@given(DEFINITIONS, st.booleans())
def test_writing_back_what_was_read_changes_nothing(native: Any, binds_new: bool) -> None:
    native = mask_secrets(native, SHEET)
    names = bindings()
    portable = to_portable(native, SHEET, names, key="flow:self", binds_new=binds_new)
    assert "s3cret" not in str(portable)
    back = to_native(portable.form, SHEET, names, layout=portable.layout, present=native, files=portable.files)
    assert back.definition == native
    assert back.missing == ()


@given(DEFINITIONS)
def test_reading_what_was_written_gives_the_same_form(native: Any) -> None:
    source = bindings()
    first = to_portable(mask_secrets(native, SHEET), SHEET, source, key="flow:self", binds_new=True)
    target = Bindings(PRACTICE)
    for key, value in source.values.items():
        other = {"ta": "ta-9001", "fl": "fl-9001", "cn": "cn-9001"}.get(str(value)[:2], value)
        target.bind(key, f"https://www.halcyon.example/{key[4:]}" if key.startswith("url:") else other)
    written = to_native(first.form, SHEET, target, layout=first.layout, files=first.files)
    entered = {token for _, token in written.to_enter}
    again = to_portable(written.definition, SHEET, target, key="flow:self", guide=first.form)
    assert _without_secrets(again.form) == _without_secrets(first.form)
    assert again.layout == first.layout
    assert all(token.startswith("amphora:secret:") for token in entered)


def _without_secrets(form: Any) -> Any:
    if isinstance(form, dict):
        kept = {name: _without_secrets(part) for name, part in form.items()}
        return {name: part for name, part in kept.items() if not str(part).startswith("amphora:secret:")}
    return [_without_secrets(part) for part in form] if isinstance(form, list) else form


def read(native: Any, **options: Any) -> Any:
    return to_portable(native, SHEET, options.pop("names", bindings()), key="flow:self", **options).form


def test_ids_urls_parts_and_escapes() -> None:
    form = read(
        {
            "column": "ta-0001#variety",
            "steps": [{"id": "a", "connection": "cn-7777", "script": "go https://dev.halcyon.example/open/ta-0001"}],
            "free": {"p": "amphora:mine", "q": "ta-0001"},
        }
    )
    assert form["column"] == "amphora:table:intake/deliveries#variety"
    assert form["steps"][0]["connection"] == "amphora:unbound:cn-7777"
    assert form["steps"][0]["script"] == "go ${amphora:url:site}/open/${amphora:table:intake/deliveries}"
    assert form["free"] == {"p": "amphora:literal:mine", "q": "amphora:table:intake/deliveries"}


def test_people_of_one_name_are_told_apart_and_stay_who_they_are() -> None:
    sheet = parse_sheet('kind = "note"\n[[refers]]\nat = "$.to[*]"\nto = ["person"]\n')
    names = Bindings(IdStyle("(?!)"))
    people = ["ada@a.example", "ada@b.example", "ada@c.example", "ada@a.example"]
    form = to_portable({"to": people}, sheet, names, key="note:a", binds_new=True).form
    keys = ["ada", "ada~2", "ada~3", "ada"]
    assert form["to"] == [token_for(f"person:{key}") for key in keys]
    assert to_native(form, sheet, names).definition == {"to": people}


def test_entries_without_an_order_keep_what_is_the_platforms_own() -> None:
    lists = 'unordered = ["$.l"]\nvolatile = ["$.l[*].no"]\nsecret = ["$.l[?@.kind == \'s\'].key"]\n'
    sheet, names = parse_sheet(f'kind = "note"\n[fields]\n{lists}'), Bindings(IdStyle("(?!)"))
    there = {"l": [{"no": 7, "v": "b"}, {"no": 8, "kind": "s", "v": "a", "key": MASK}, {"no": 9, "v": "gone"}]}
    form = to_portable(there, sheet, names, key="note:a").form
    assert to_native(form, sheet, names, present=there).definition == there
    meant = {"l": [{"v": "c"}, *(one for one in form["l"] if one["v"] != "gone")]}
    assert to_native(meant, sheet, names, present=there).definition == {"l": [*there["l"][:2], {"v": "c"}]}


def test_a_guide_keeps_its_token_only_while_it_renders_to_the_value() -> None:
    native = {"steps": [{"id": "a", "connection": "cn-0001", "script": ""}], "limit": 3}
    assert read(native)["steps"][0]["connection"] == "amphora:connection:mill-db"
    guide = {
        "steps": [{"id": "a", "connection": "amphora:connection:second-name"}],
        "limit": "amphora:setting:x-limit",
    }
    assert read(native, guide=guide)["steps"][0]["connection"] == "amphora:connection:second-name"
    assert read(native, guide=guide)["limit"] == "amphora:setting:x-limit"
    assert read({**native, "limit": 4}, guide=guide)["limit"] == 4
    literal = {"steps": [{"id": "a", "script": "on https://dev.halcyon.example"}]}
    assert read(literal, guide=literal) == literal


def test_settings_are_named_by_place_and_never_by_value() -> None:
    names = bindings()
    first = to_portable({"steps": [], "limit": 7}, SHEET, names, key="flow:mill/alert", binds_new=True).form
    other = to_portable({"steps": [], "limit": 7}, SHEET, names, key="flow:lab/alert", binds_new=True).form
    assert first["limit"] == "amphora:setting:alert-limit"
    assert other["limit"] != first["limit"]
    assert names.value_of(other["limit"]) == 7


def test_other_ids_of_parts_are_mapped_and_undone() -> None:
    style = IdStyle(r"[0-9a-f]{8,}")
    names = Bindings(style, {"flow:self": "11111111"})
    inner = {"aaaaaaaa": "bbbbbbbb"}
    form = {"steps": [{"id": "aaaaaaaa", "script": "call aaaaaaaa"}, {"id": "c", "loose": "aaaaaaaa"}]}
    native = to_native(form, SHEET, names, inner=inner).definition
    assert native == {"steps": [{"id": "bbbbbbbb", "script": "call bbbbbbbb"}, {"id": "c", "loose": "bbbbbbbb"}]}
    assert to_portable(native, SHEET, names, key="flow:self", inner=inner, guide=form).form == form
    assert to_portable(native, SHEET, names, key="flow:self", inner=inner).form == form


def test_secrets_are_masked_at_the_first_touch_and_kept_on_writing() -> None:
    native = mask_secrets({"hook": {"token": "s3cret"}, "steps": [], "env": [{"type": "cred", "value": "x"}]}, SHEET)
    assert native == {"hook": {"token": MASK}, "steps": [], "env": [{"type": "cred", "value": MASK}]}
    assert set(masked_places(native, SHEET)) == {"/hook/token", "/env/0/value"}
    form = read(native)
    assert form["hook"]["token"] == "amphora:secret:self-hook-token"
    new = to_native(form, SHEET, bindings())
    assert new.definition["hook"] == {}
    assert {pointer for pointer, _ in new.to_enter} == {"/hook/token", "/env/0/value"}


def test_volatile_and_unknown_values_of_the_target_stay() -> None:
    present = {"run_count": 9, "steps": [{"id": "b", "seen": 4, "x": 1}, {"id": "a", "seen": 5, "x": 2}]}
    form = {"steps": [{"id": "a", "n": 1}, {"id": "c"}]}
    native = to_native(form, SHEET, bindings(), present=present)
    assert native.definition == {"run_count": 9, "steps": [{"id": "a", "n": 1, "seen": 5, "x": 2}, {"id": "c"}]}


def test_a_token_without_a_value_is_reported() -> None:
    native = to_native({"steps": [{"id": "a", "connection": "amphora:connection:nope"}]}, SHEET, bindings())
    assert native.missing == (("/steps/0/connection", "amphora:connection:nope"),)


def test_parts_and_features() -> None:
    form = {"steps": [{"id": "a"}, {"id": "b"}], "uses": "mail"}
    assert part_ids(form, SHEET) == {"a", "b"}
    assert feature_values(form, SHEET) == {"mail"}


def test_no_sheet_loosens_a_secret() -> None:
    loose = parse_sheet('kind = "flow"\n[fields]\nsecret = ["$.hook.token"]')
    with pytest.raises(SheetFault, match="no longer treat"):
        sheets_in_force([SHEET], [loose])


def test_a_kind_is_neither_switched_nor_published_unless_its_sheet_says_so() -> None:
    plain = parse_sheet('kind = "flow"')
    assert (plain.is_switched, plain.is_published, plain.is_carried, plain.schema, plain.is_start) == (
        False,
        False,
        True,
        1,
        False,
    )
    assert (plain.title, plain.plural) == ("flow", "flows")
    full = parse_sheet('kind = "x"\nplural = "xs"\n[states]\nswitch = "$.on"\npublish = true\n')
    assert (full.is_switched, full.is_published, full.plural) == (True, True, "xs")


def test_ids_that_lead_nowhere_are_left_out_where_nobody_misses_them() -> None:
    sheet = parse_sheet(
        'kind = "board"\n'
        '[[refers]]\nat = "$.seen[*]"\nto = ["chart"]\ndead = "left out"\n'
        '[[refers]]\nat = "$.last"\nto = ["chart"]\ndead = "left out"\n'
        '[[refers]]\nat = "$.by"\nto = ["chart"]\nmembers = true\ndead = "left out"\n'
        '[[refers]]\nat = "$.shown"\nto = ["chart"]\n'
    )
    names = Bindings(IdStyle(r"chart~\d+"), {"chart:a": "chart~1"})
    pairs = [{"of": "chart~1", "is": 1}, {"of": "chart~7", "is": 2}]
    native = {"seen": ["chart~7", "chart~1"], "last": "chart~8", "by": pairs, "shown": "chart~9"}
    found = to_portable(native, sheet, names, key="board:b")
    assert [parse_token(one) for one in found.form["seen"]] == [parse_token(token_for("chart:a"))]
    assert [pair["is"] for pair in found.form["by"]] == [1]
    assert "last" not in found.form
    # Elsewhere it is told: whoever moves the item has to say what becomes of it.
    assert "unbound" in found.form["shown"]
    assert sorted(found.dead) == ["/by/1", "/last", "/seen/0"]


def test_a_layout_is_laid_where_the_package_moved_something() -> None:
    base = {"nodes": {"a": {"x": 1, "y": 1}, "b": {"x": 2}}}
    moved = {"nodes": {"a": {"x": 1, "y": 9}, "b": {"x": 2}, "c": {"x": 3}}}
    walk = SHEET.places.walk({})
    assert to_lay(moved, base, walk) == {"nodes": {"a": {"y": 9}, "c": {"x": 3}}}
    assert to_lay(base, base, walk) is None
    assert to_lay(base, None, walk) == base
    assert to_lay(None, base, walk) is None


TILES = parse_sheet(
    """
kind = "board"
[fields]
unordered = ["$.tiles"]
layout    = ["$.tiles[*].x"]
volatile  = ["$.tiles[*].id"]
secret    = ["$.tiles[*].pin"]
"""
)


def test_the_layout_of_what_has_no_order_goes_with_what_it_belongs_to() -> None:
    def read(*tiles: tuple[int, str, int]) -> Portable:
        definition = {"tiles": [{"id": id_, "text": text, "x": x, "size": 1} for id_, text, x in tiles]}
        return to_portable(definition, TILES, Bindings(PRACTICE), key="board:b")

    first, again = read((1, "b", 20), (2, "a", 10), (3, "a", 5)), read((9, "a", 5), (8, "a", 10), (7, "b", 20))
    assert (first.form, first.layout) == (again.form, again.layout)
    assert [(tile["text"], first.layout["tiles"][str(n)]["x"]) for n, tile in enumerate(first.form["tiles"])] == [
        ("a", 10),
        ("a", 5),
        ("b", 20),
    ]
    # Where one is another by now, all of them are laid: they stand in the order of what they are.
    other = read((1, "c", 30), (2, "a", 10), (3, "a", 5))
    walk = TILES.places.walk(first.form)
    assert to_lay(other.layout, first.layout, walk) == other.layout
    assert to_lay(again.layout, first.layout, walk) is None


def test_an_entry_that_is_another_in_part_keeps_its_id_and_its_place_and_no_secret() -> None:
    present = {
        "tiles": [{"id": 7, "text": "a", "x": 5, "size": 1, "pin": MASK}, {"id": 8, "text": "b", "x": 9, "size": 2}]
    }
    form = {"tiles": [{"text": "a2", "size": 1}, {"text": "b", "size": 2}, {"text": "new", "size": 3}]}
    written = to_native(form, TILES, Bindings(PRACTICE), present=present).definition["tiles"]
    assert sorted(written, key=str) == sorted(
        [
            {"id": 8, "text": "b", "x": 9, "size": 2},
            {"id": 7, "text": "a2", "x": 5, "size": 1},
            {"text": "new", "size": 3},
        ],
        key=str,
    )


HOLDING = parse_sheet(
    """
kind = "page"
[[refers]]
at = "$.home.id"
to = ["page"]
hollow = "object"
[[refers]]
at = "$.tiles[*].id"
to = ["page"]
hollow = "object"
[[refers]]
at = "$.next"
to = ["page"]
[[refers]]
at = "$.seen[*]"
to = ["page"]
[[refers]]
at = "$.rights"
members = true
to = ["page"]
[[refers]]
at = "$.pairs[*][1]"
to = ["page"]
[fields]
text = ["$.note"]
""",
    "page.toml",
)


@pytest.mark.parametrize(
    ("form", "bare"),
    [
        ({"home": {"type": "p", "id": "A"}, "n": 1}, {"home": None, "n": 1}),
        ({"home": {"type": "p", "id": "B"}}, {"home": {"type": "p", "id": "B"}}),
        ({"tiles": [{"id": "A"}, {"id": "B"}, {"id": "A"}]}, {"tiles": [{"id": "B"}]}),
        ({"rights": [{"of": "A", "is": 1}, {"of": "B", "is": 2}]}, {"rights": [{"of": "B", "is": 2}]}),
        ({"seen": ["A", "B", "A"]}, {"seen": ["B"]}),
        ({"pairs": [["label", "A"], ["other", "B"]]}, {"pairs": [["label", None], ["other", "B"]]}),
        ({"next": "A", "other": "A-text"}, {"next": None, "other": "A-text"}),
    ],
)
def test_what_is_not_there_yet_and_what_is_to_go_is_named_nowhere(form: Json, bare: Json) -> None:
    assert loosened(form, {"A"}, HOLDING) == bare

    def coded(value: Json) -> Json:
        found: Json = json.loads(re.sub(r'"([AB])"', r'"amphora:page:\1"', json.dumps(value)))
        return found

    assert hollowed(coded(form), {"page:A"}, HOLDING) == coded(bare)


def test_texts_of_what_is_not_there() -> None:
    assert loosened({"next": "B", "note": "A"}, {"A"}, HOLDING) == {"next": "B", "note": "A"}
    token = "amphora:page:A"
    assert hollowed({"next": token, "note": f"see ${{{token}}}!"}, {"page:A"}, HOLDING) == {
        "next": None,
        "note": "see !",
    }
