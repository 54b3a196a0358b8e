"""Copies beside what is there, items that take another's place, ids, old links: each by what is in the target afterwards."""

from __future__ import annotations

from pathlib import Path

import pytest

from amphora.core.form.copies import as_named, copied, taken_apart
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Contents, Item, Need, States
from amphora.core.values.next_step import to_type
from tests.conftest import Program


def test_what_is_inside_leads_to_the_copies_and_what_is_outside_stays() -> None:
    form = {
        "on": "amphora:table:a/b#c",
        "by": "amphora:person:x",
        "t": "see ${amphora:table:a/b}",
        "o": "amphora:flow:z",
    }
    items = {
        "flow:f": Item("flow:f", 1, form, States("F", "top"), {"x": 1}, "fl-1", "https://dev/1"),
        "table:a/b": Item("table:a/b", 1, {}, States("B")),
    }
    needs = (Need("flow:z", ("flow:f",)), Need("person:x", ("flow:f",)))
    contents = Contents(
        "p", "1.0.0", "dev", "uid", items, needs, notes={"flow:f": "n"}, bases={"flow:f": ({}, States("F"))}
    )
    found = copied(contents, "north")
    assert found.name == "p~north"
    assert list(found.items) == ["flow:f%20%28north%29", "table:a/b%20%28north%29"]
    item = found.items["flow:f%20%28north%29"]
    assert item.form == {
        "on": "amphora:table:a/b%20%28north%29#c",
        "by": "amphora:person:x",
        "t": "see ${amphora:table:a/b%20%28north%29}",
        "o": "amphora:flow:z",
    }
    assert (item.states, item.native_id, item.link, item.layout) == (States("F (north)", "top"), "", "", {"x": 1})
    assert {need.used_by for need in found.needs} == {("flow:f%20%28north%29",)}
    assert (dict(found.notes), found.bases) == ({"flow:f%20%28north%29": "n"}, {})
    assert as_named(contents, "p~north").items == found.items
    assert as_named(contents, "p") is contents
    assert as_named(found, "p~north") is found
    for bad in ("", "2x", "a b", "-a", "a" * 41):
        with pytest.raises(UsageFault):
            copied(contents, bad)


@pytest.mark.parametrize(
    ("name", "base", "copy"),
    [
        ("p~n", "p", "n"),
        ("p-q~far-north", "p-q", "far-north"),
        ("p~far-north-1.10.0-rc.1", "p-1.10.0-rc.1", "far-north"),
        ("p-1.0.0", "p-1.0.0", ""),
        ("./x~y/p.amphora", "./x~y/p.amphora", ""),
        ("a~b~c", "a~b~c", ""),
    ],
)
def test_names_of_copies(name: str, base: str, copy: str) -> None:
    assert taken_apart(name) == (base, copy)
    assert str(to_type("import", name, "x")) == f"amphora import {name} x" or "~" not in name or copy == ""


def test_ids_are_kept_or_new_where_they_can_be_chosen(amphora: Program, halcyon: Path) -> None:
    from amphora.environments.folder import found_folder
    from amphora.practice.sheets import practice_sheets

    amphora("export", "grove-dev", "Olive varieties", "--as", "lists")
    for name in ("one", "two"):
        found_folder(halcyon / name, f"uid-{name}", practice_sheets())
        assert amphora("env", "add", name, f"folder:{name}", "--role", "test").code == 0

    def id_in(name: str) -> str:
        [item] = amphora("survey", name, "--json").json["items"]
        return str(item["native_id"])

    home = next(
        i["native_id"]
        for i in amphora("survey", "grove-dev", "--json").json["items"]
        if i["title"] == "Olive varieties"
    )
    assert amphora("import", "lists", "one", "--yes", "--ids", "keep").code == 0
    assert id_in("one") == home
    assert amphora("import", "lists", "two", "--yes", "--ids", "new").code == 0
    assert id_in("two") != home
    refused = amphora("import", "lists", "grove-live", "--yes", "--ids", "keep")
    assert (refused.code, "gives ids by itself" in refused.err) == (2, True)
    # Written into a docket by hand, it is honoured there.
    assert amphora("compare", "lists", "two", "--choose", "Olive varieties=package", "--docket", "d.yaml").code in (
        0,
        1,
    )
    assert amphora("undo", "last", "--yes").code == 0
    assert amphora("compare", "lists", "two", "--docket", "d.yaml").code == 1
    text = (halcyon / "d.yaml").read_text()
    (halcyon / "d.yaml").write_text(text.replace("since:", "ids: new\nsince:"))
    assert amphora("import", "d.yaml", "--yes").code == 0
    assert id_in("two") != home
    (halcyon / "e.yaml").write_text(text.replace("since:", "ids: other\nsince:"))
    assert amphora("import", "e.yaml", "--yes").code == 2
    # Kept means kept: where another item has the id, it is said before anything is done.
    other = amphora("import", "lists", "one", "--copy", "c", "--yes", "--ids", "keep")
    assert (other.code, "ids of these" in other.err) == (3, True)
    assert amphora("import", "lists", "grove-live", "--yes", "--ids", "some").code == 2
