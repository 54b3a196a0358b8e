"""Attachments that stay behind, and items held folded."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given

from amphora.core.form.attachments import LEFT_OUT, kept_apart, with_present, without_attachments
from amphora.core.form.bindings import MISSING, Bindings, IdStyle
from amphora.core.form.kinds import parse_sheet
from amphora.core.form.native import to_native
from amphora.core.form.portable import data_url, to_portable
from amphora.core.values.model import Item, States
from amphora.core.values.pointers import value_at
from amphora.core.values.scan import confirmed_places, token_places
from amphora.core.values.strict_json import pretty_bytes
from tests.core.test_canon import JSON

SHEET = parse_sheet(
    'kind = "app"\ntitle = "App"\nplural = "apps"\nschema = 1\n[fields]\n'
    'files = ["$.icon", "$.pages[*].picture"]\nnamed = { "$.pages" = "id" }\n',
    "app",
)
ICON = "amphora:file:" + "a" * 64 + "#image%2Fpng"


@pytest.mark.parametrize(
    ("form", "present", "result"),
    [
        ({"icon": ICON, "a": 1}, MISSING, {"a": 1}),
        ({"icon": ICON}, {"icon": "mine"}, {"icon": "mine"}),
        ({"icon": "none"}, {"icon": "mine"}, {"icon": "none"}),
        (
            {"pages": [{"id": "x", "picture": ICON}, {"id": "y", "picture": ICON}]},
            {"pages": [{"id": "y", "picture": "mine"}]},
            {"pages": [{"id": "x"}, {"id": "y", "picture": "mine"}]},
        ),
        ({"list": [ICON, 2]}, {"list": ["mine"]}, {"list": ["mine", 2]}),
        ({"list": [ICON]}, MISSING, {"list": [""]}),
    ],
)
def test_the_target_keeps_its_own(form: Any, present: Any, result: Any) -> None:
    item = without_attachments(Item("app:a", 1, form, States("A")))
    assert ICON not in str(item.form)
    assert (LEFT_OUT in str(item.form)) == (ICON in str(form))
    assert with_present(item, present, SHEET.places.walk(form)).form == result
    # What an item has no more stays there only where no attachment is to come over.
    there = {"icon": "mine", "a": 2}
    gone = Item("app:a", 1, {"a": 1}, States("A"))
    assert with_present(gone, there, SHEET.places.walk(there)).form == {"a": 1}
    assert with_present(gone, there, SHEET.places.walk(there), keeps_all=True).form == {"a": 1, "icon": "mine"}


@given(JSON)
def test_a_folded_item_is_the_same_item(value: Any) -> None:
    form = {"a": [value, ICON], "text": "to ${amphora:flow:x} and back"}
    item = Item("app:a", 1, form, States("A"), {"x": 3})
    folded = item.folded()
    assert folded == item
    assert (folded.form, folded.layout, folded.digest) == (form, {"x": 3}, item.digest)
    assert list(folded.places) == token_places(form)


@pytest.mark.parametrize(
    ("pointers", "is_confirmed"),
    [
        (["/a/0", "/b"], True),
        (["/a/0"], False),
        (["/a/0", "/a/00"], False),
        (["/a/0", "/a/-2"], False),
        (["/a/0", "/c"], False),
        (["/a/0", "/b", "/a/1"], False),
    ],
)
def test_listed_places_are_believed_only_if_they_are_all(pointers: list[str], is_confirmed: bool) -> None:
    form = {"a": [ICON, 1], "b": "amphora:flow:x"}
    found = confirmed_places(form, pretty_bytes(form), pointers)
    assert found == (token_places(form) if is_confirmed else None)


@pytest.mark.parametrize("pointer", [("a", "-1"), ("a", "00"), ("a", "1_0"), ("a", " 1"), ("a", "٣"), ("b", "0")])
def test_an_index_is_written_in_one_way(pointer: tuple[str, ...]) -> None:
    with pytest.raises(LookupError):
        value_at({"a": list(range(20)), "b": "text"}, pointer)


@pytest.mark.parametrize(
    ("text", "is_taken_out"),
    [
        ("data:image/png;base64,aGVsbG8=", True),
        ("data:;base64,aGVsbG8=", True),
        ("data:;base64,", True),
        ("data:image/png;base64,aGVsbG9=", False),  # bits left standing
        ("data:image/png;base64,aGVsbG8", False),  # no padding
        ("data:image/png;charset=x;base64,aGVsbG8=", False),
        ("data:image/png;base64,aGVs\nbG8=", False),
    ],
)
def test_attachments_come_back_to_the_byte(text: str, is_taken_out: bool) -> None:
    names = Bindings(IdStyle("x-[0-9]+"))
    portable = to_portable({"icon": text}, SHEET, names, key="app:a")
    assert bool(portable.files) is is_taken_out
    assert to_native(portable.form, SHEET, names, files=portable.files).definition == {"icon": text}


def test_only_a_checksum_is_the_name_of_an_attachment_that_is_kept_apart() -> None:
    apart = Bindings(IdStyle("(?!)"), files_apart=lambda name: name.encode())
    good = f"amphora:file:{'0a' * 32}#image%2Fpng"
    for text, is_one in (
        (good, True),
        (f"amphora:file:{'0A' * 32}", False),
        ("amphora:file:../../keys/mine", False),
        ("amphora:file:left-out", False),
        ("amphora:flow:x", False),
    ):
        names = kept_apart({"icon": text, "other": good}, SHEET)
        found = to_portable({"icon": text}, SHEET, apart, key="app:a")
        assert (names, dict(found.files)) == ((["0a" * 32], {"0a" * 32: b"0a" * 32}) if is_one else ([], {}))
        # Somebody's own text stays what it is.
        back = to_native(found.form, SHEET, apart, files=found.files).definition
        assert back == {"icon": data_url(b"0a" * 32, "image/png") if is_one else text}
