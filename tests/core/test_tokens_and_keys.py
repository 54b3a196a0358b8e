"""Keys, tokens, pointers and member names: laws and edges."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.needs.crosswalk import need_key, row_name
from amphora.core.values.graph import in_order
from amphora.core.values.keys import decode_segment, encode_segment, free_key, is_key, make_key
from amphora.core.values.pointers import parse_pointer, write_pointer
from amphora.core.values.scan import token_places
from amphora.core.values.tokens import escape, parse_token, render_text, token_for, tokens_in, unescape
from amphora.files.members import item_members

TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=20)
TRICKY = st.lists(
    st.sampled_from(["amphora:", "${amphora:", "literal:", "flow:a", "}", "#p", "x", "$", "{", " "]), max_size=8
).map("".join)


@given(TEXT)
def test_segments_are_safe_and_reversible(text: str) -> None:
    import unicodedata

    segment = encode_segment(text)
    assert decode_segment(segment) == (unicodedata.normalize("NFC", text) or "unnamed")
    assert not segment.startswith(".")
    assert not set(segment) & set("/~ \\:*?")


def test_doubled_names_get_a_suffix_that_no_title_can_make() -> None:
    key = make_key("flow", ["mill", "a~2"])
    assert key == "flow:mill/a%7E2"
    assert free_key("flow:mill/a", {"flow:mill/a", "flow:mill/a~2"}) == "flow:mill/a~3"


@pytest.mark.parametrize(
    ("text", "fits"),
    [("flow:a/b", True), ("flow:a/../b", False), ("flow:a//b", False), ("Flow:a", False), ("flow:", False)],
)
def test_what_is_a_key(text: str, fits: bool) -> None:
    assert is_key(text) is fits


@given(TRICKY | TEXT)
def test_users_text_never_becomes_a_token(text: str) -> None:
    escaped = escape(text)
    assert tokens_in(escaped) == []
    assert unescape(escaped) == text
    assert render_text(escaped, lambda token: "!") == text


@given(TEXT, TRICKY)
def test_tokens_in_texts_render_and_the_rest_stays(part: str, around: str) -> None:
    token = token_for("table:intake/deliveries", part or "p")
    parsed = parse_token(token)
    assert parsed is not None
    assert parsed.part == (part or "p")
    text = escape("x" + around) + "${" + token + "}"
    assert render_text(text, lambda found: "ID" if found == token else "?") == "x" + around + "ID"


def test_places_are_json_pointers() -> None:
    form = {"a/b": ["amphora:flow:x", {"~": "see ${amphora:table:t#c} and ${amphora:literal:no}"}]}
    found = [(place.pointer, place.token, place.in_text) for place in token_places(form)]
    assert found == [("/a~1b/0", "amphora:flow:x", False), ("/a~1b/1/~0", "amphora:table:t#c", True)]


@given(st.lists(TEXT, max_size=5).map(tuple))
def test_pointers_read_back(parts: tuple[str, ...]) -> None:
    assert parse_pointer(write_pointer(parts)) == parts


@given(st.lists(st.lists(TEXT, min_size=1, max_size=3), max_size=8))
def test_member_names_never_collide(paths: list[list[str]]) -> None:
    keys = {make_key("flow", path) for path in paths} | {"flow:A", "flow:a", "flow:a.json/b", "flow:" + "x" * 300}
    members = item_members(keys)
    lower = [member.lower() for member in members.values()]
    assert len(set(lower)) == len(keys)
    folders = {member.rsplit("/", depth)[0] for member in lower for depth in range(1, member.count("/") + 1)}
    assert not folders & set(lower)
    assert all(len(part) <= 120 for member in lower for part in member.split("/"))


@given(st.dictionaries(st.integers(0, 12).map(str), st.lists(st.integers(0, 12).map(str), max_size=4)))
def test_used_comes_before_user(uses: dict[str, list[str]]) -> None:
    groups = in_order(uses)
    assert sorted(key for group in groups for key in group) == sorted(uses)
    position = {key: number for number, group in enumerate(groups) for key in group}
    for key, used in uses.items():
        for other in used:
            if other in position:
                assert position[other] <= position[key]
    for group in groups:
        for key in group[1:]:
            assert _reaches(uses, group[0], key)
            assert _reaches(uses, key, group[0])


def _reaches(uses: dict[str, list[str]], start: str, goal: str) -> bool:
    seen, waiting = set(), [start]
    while waiting:
        for used in uses.get(waiting.pop(), []):
            if used == goal:
                return True
            if used not in seen:
                seen.add(used)
                waiting.append(used)
    return False


@given(st.text(min_size=1), st.sampled_from(["", "~2", "~17"]), st.sampled_from(["connection", "setting"]))
def test_rows_of_the_crosswalk_lead_back_to_their_needs(name: str, tail: str, kind: str) -> None:
    key = f"{kind}:{encode_segment(name)}{tail}"
    assert need_key(kind, row_name(key)) == key


@pytest.mark.parametrize(
    ("key", "row"),
    [
        ("connection:mqtt%3A%2F%2Fmill%2Fdb", "mqtt://mill/db"),
        ("connection:100%25", "100%"),
        ("connection:a%257E2", "a%7E2"),
        ("person:lab~2", "lab~2"),
        ("person:lab%7E2", "=lab%7E2"),
        ("setting:%3Da", "=%3Da"),
        ("connection:mill/db", "=mill/db"),
    ],
)
def test_names_with_signs_of_ours_in_them(key: str, row: str) -> None:
    assert row_name(key) == row
    assert need_key(key.partition(":")[0], row) == key
