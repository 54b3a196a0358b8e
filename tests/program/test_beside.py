"""Copies beside what is there, items that take another's place, ids, old links: each by what is in the target afterwards."""

from __future__ import annotations

import csv
from contextlib import closing
from pathlib import Path

import pytest

from amphora.core.form.copies import as_named, copied, taken_apart
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Contents, Item, Need, States
from amphora.core.values.next_step import to_type
from amphora.practice.platform import Platform
from tests.conftest import Program
from tests.program.test_arrivals import placed
from tests.program.test_pauses import everything


@pytest.fixture
def small(amphora: Program) -> Program:
    """A letter and a list, imported once under their own names."""
    assert amphora("export", "grove-dev", "Weigh slip", "Olive varieties", "--as", "small").code == 0
    assert amphora("import", "small", "grove-live", "--yes").code == 0
    return amphora


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


def unrelated(halcyon: Path) -> None:
    """Somebody has a letter of the same name where ours is to go."""
    with closing(
        Platform(halcyon / "grove-live.practice", "keeper@halcyon.example", lambda: "2026-11-01T08:00:00Z")
    ) as it:
        id_ = it.create("letter-template", "lab", "weigh-slip", "Slip", {"body": "B", "subject": "Mine"}, None, "t")
        it.publish(id_)


@pytest.mark.parametrize("option", ["--same", "--replace"])
def test_what_stands_in_the_place_is_taken_for_it_with_somebody_s_word(
    amphora: Program, halcyon: Path, option: str
) -> None:
    amphora("export", "grove-dev", "Weigh slip", "--as", "slip")
    unrelated(halcyon)
    before = everything(halcyon)
    move = ("--folder", "office=lab")
    refused = amphora("import", "slip", "grove-live", "--yes", *move)
    assert (refused.code, "--same letter-template:office/weigh-slip" in refused.err) == (3, True)
    words = ("import", "slip", "grove-live", "--yes", *move, option, "Weigh slip")
    done = amphora(*words)
    if option == "--same":
        # Nothing of theirs is overwritten before somebody has said so, field by field or altogether.
        assert (done.code, everything(halcyon)) == (3, before)
        shown = amphora("compare", "slip", "grove-live", *move, option, "Weigh slip", "--json")
        [action] = shown.json["actions"]
        assert {change["by"] for change in action["changes"]} == {"unknown origin"}
        kept = amphora(
            "compare",
            "slip",
            "grove-live",
            *move,
            option,
            "Weigh slip",
            "--choose",
            "Weigh slip=target",
            "--docket",
            "d.yaml",
        )
        assert kept.code in (0, 1)
        assert amphora("import", "d.yaml", "--yes").code == 0
        assert placed(halcyon)["weigh-slip"] == ("Slip", "lab")
    else:
        assert done.code == 0, done.err
        assert placed(halcyon)["weigh-slip"] == ("Weigh slip", "lab")
    # Known from now on.
    assert amphora("import", "slip", "grove-live", "--yes").code == 0
    while amphora("undo", "last", "--yes").code == 0:
        pass
    assert everything(halcyon) == before


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


def test_old_and_new_links_come_as_a_table_and_texts_that_hold_an_old_one_are_named(
    amphora: Program, halcyon: Path
) -> None:
    text = "See http://DEV.halcyon.example/open/x, https://www.halcyon.example/y or {HREF}"
    amphora("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", f'/body="{text}"', "--set", "title==1+1")
    amphora("export", "grove-dev", "letter-template:office/weigh-slip", "--as", "slip")
    done = amphora("import", "slip", "grove-live", "--yes", "--links", "links.csv", "--json")
    key = "letter-template:office/weigh-slip"
    assert done.json["old_links"] == [{"key": key, "place": "/body", "address": "http://DEV.halcyon.example/open/x"}]
    rows = list(csv.reader((halcyon / "links.csv").read_text(encoding="utf-8-sig").splitlines()))
    [(_, link)] = [(k, v) for k, v in done.json["links"].items()]
    assert rows == [
        ["environment", "item", "title", "was at", "is now at"],
        ["grove-live", key, "'=1+1", link["old"], link["new"]],
    ]


def test_two_ledgers_that_work_on_one_target_are_recognised(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Weigh slip", "Olive varieties", "--as", "small")
    assert amphora("import", "small", "grove-live", "--yes").code == 0
    # A colleague with a ledger of their own, over the same target.
    (halcyon / "ledger.sqlite").rename(halcyon / "mine")
    for path in halcyon.glob("ledger.sqlite-*"):
        path.unlink()
    checked = amphora("check", "small", "grove-live", "--json")
    told = [one for one in checked.json["findings"] if one["rule"] == "other-ledger"]
    assert [one["item"] for one in told] == ["letter-template:office/weigh-slip", "value-list:intake/olive-varieties"]
    assert "brought into grove-live with another ledger" in told[0]["message"]
    amphora("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/subject="New"')
    amphora("export", "small")
    before = everything(halcyon)
    # Of unknown origin: nothing of what the other ledger delivered is overwritten without a word.
    assert amphora("import", "small", "grove-live", "--yes").code == 3
    assert everything(halcyon) == before
    amphora("compare", "small", "grove-live", "--choose", "Weigh slip=package", "--docket", "d.yaml")
    assert amphora("import", "d.yaml", "--yes").code == 0
    # Back with the first one: what the other did is an edit there, named and kept.
    (halcyon / "ledger.sqlite").rename(halcyon / "theirs")
    for path in halcyon.glob("ledger.sqlite-*"):
        path.unlink()
    (halcyon / "mine").rename(halcyon / "ledger.sqlite")
    edits = amphora("edits", "grove-live", "--json")
    assert (edits.code, [one["key"] for one in edits.json["items"]]) == (1, ["letter-template:office/weigh-slip"])
    undone = amphora("undo", "last", "--yes")
    assert (undone.code, "Weigh slip" in undone.out) == (1, True)
    assert not [
        one
        for one in amphora("check", "small", "grove-live", "--json").json["findings"]
        if one["rule"] == "other-ledger"
    ]


def test_edits_call_items_as_they_are_called_there_now(small: Program, halcyon: Path) -> None:
    small("practice", "edit", "grove-live.practice", "Weigh slip", "--set", "title=Weigh note")
    with closing(Platform(halcyon / "grove-live.practice", "keeper@halcyon.example", lambda: "")) as there:
        [gone] = [item.id for item in there.everything() if item.kind == "value-list"]
        there.delete({gone: None})
    told = small("edits", "grove-live")
    assert "Weigh note (letter-template:office/weigh-slip), by ines@halcyon.example" in told.out
    assert "Olive varieties (value-list:intake/olive-varieties), gone" in told.out
