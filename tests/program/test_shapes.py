"""One package into a newer and an older release: converted, told before, and nothing lost; and an environment that is
brought to a newer release between two imports."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from importlib.resources import files
from inspect import getattr_static
from pathlib import Path
from typing import Any

import pytest

from amphora.environments.practice import connect
from amphora.environments.sheeted import Sheeted
from tests.conftest import Program
from tests.program.test_pauses import everything


def definitions(halcyon: Path, name: str, kind: str) -> dict[str, Any]:
    with closing(sqlite3.connect(halcyon / f"{name}.practice")) as db:
        return {
            row[0]: json.loads(row[1]) for row in db.execute("select name, live from items where kind = ?", (kind,))
        }


@pytest.fixture
def look(amphora: Program) -> Program:
    assert amphora("export", "grove-dev", "theme:*", "--as", "look").code == 0
    return amphora


def test_one_package_goes_into_a_newer_and_an_older_release(look: Program, halcyon: Path) -> None:
    before = everything(halcyon, "grove-south")
    refused = look("import", "look", "grove-south", "--yes")
    assert (refused.code, "theme:house/press-hall at font" in refused.err) == (3, True)
    checked = look("check", "look", "grove-south", "--json")
    assert {f["rule"] for f in checked.json["findings"]} >= {"converted", "conversion-unfit"}
    assert (checked.code, checked.json["findings"][0]["item"]) == (3, "skin:house/press-hall")
    leave = ("--leave", "Press Hall")
    shown = look("compare", "look", "grove-south", "--choose", "Press Hall=leave", "--docket", "d.yaml")
    assert "1 item converted to the shape there." in shown.verdict
    assert "theme becomes skin, schema 1 to 0: 1 item, 3 fields moved, 1 field left to the default" in shown.out
    edited = (halcyon / "d.yaml").read_text().replace("3 fields moved", "no field moved")
    (halcyon / "other.yaml").write_text(edited)
    assert look("import", "other.yaml", "--yes").code == 2
    assert look("import", "d.yaml", "--yes").code == 0
    assert definitions(halcyon, "grove-south", "skin") == {
        "olive": {"main": "#f7f5ee", "text": "#2d3a1f", "highlight": "#7a8f2a"}
    }
    assert look("import", "look", "grove-test", "--yes").code == 0
    assert definitions(halcyon, "grove-test", "theme")["olive"]["font"] == "Alegreya"
    for name in ("grove-south", "grove-test"):
        assert look("verify", "look", name).code == 0
        assert look("edits", name).code == 0
    assert look("import", "look", "grove-south", "--yes", *leave).verdict.startswith("Nothing to do")
    assert (
        look("compare", "grove-dev", "grove-south", "Olive").verdict
        == "skin:house/olive is the same in grove-dev and grove-south."
    )
    # A repair made in the older shape comes back in the newer one.
    look("practice", "edit", "grove-south.practice", "Olive", "--set", '/main="#ffffff"')
    assert look("edits", "grove-south", "--carry-back").code == 0
    back = look("compare", "grove-south-edits", "grove-dev", "--json")
    [action] = back.json["actions"]
    assert (action["key"], action["do"], action["changes"][0]["place"]) == (
        "theme:house/olive",
        "update",
        "/colours/ground",
    )
    look("practice", "edit", "grove-south.practice", "Olive", "--set", '/main="#f7f5ee"')
    assert look("undo", "grove-south-1", "--yes").code == 0
    assert everything(halcyon, "grove-south") == before


def test_a_target_that_came_to_a_newer_release_still_knows_what_was_delivered(
    amphora: Program, halcyon: Path
) -> None:
    amphora("export", "grove-dev", "Intake desk", "--as", "crew")
    with closing(sqlite3.connect(halcyon / "grove-test.practice")) as db:
        db.execute("update meta set value = ? where name = 'schemas'", (json.dumps({"access-rule": 0}),))
        db.commit()
    done = amphora("import", "crew", "grove-test", "--yes", "--no-pause")
    assert done.code == 0, done.err
    assert set(definitions(halcyon, "grove-test", "access-rule")["intake-desk"]) == {"app", "tables", "who", "may"}
    with closing(sqlite3.connect(halcyon / "grove-test.practice")) as db:
        db.execute("update meta set value = '{}' where name = 'schemas'")
        [(text,)] = db.execute("select live from items where kind = 'access-rule'").fetchall()
        form = json.loads(text)
        form |= {"people": form.pop("who"), "rights": [*form.pop("may"), "add"]}
        db.execute("update items set live = ? where kind = 'access-rule'", (json.dumps(form),))
        db.commit()
    edits = amphora("edits", "grove-test", "--json")
    [edit] = [one for one in edits.json["items"] if one["key"].startswith("access-rule")]
    assert [change["place"] for change in edit["changes"]] == ["/rights"]
    shown = amphora("compare", "crew", "grove-test", "--json")
    [action] = [one for one in shown.json["actions"] if one["key"].startswith("access-rule")]
    assert [(change["by"], change["place"]) for change in action["changes"]] == [("target", "/rights")]


SHEET = files("amphora.practice") / "kinds" / "flow.toml"

LEARNT = [
    ('volatile = ["', 'volatile = ["$.webhook.path", "'),
    ('layout   = ["', 'layout   = ["$.webhook.path", "'),
    ('"$.batch" = "number"', '"$.batches" = "number"'),
    ('"$.batch" = "number"', '"$.batch" = "number", "$.webhook.path" = "text"'),
    ("[fields]", '[fields]\nunordered = ["$.steps"]'),
    ('secret   = ["', 'secret   = ["$.webhook.path", "'),
]
NAMES = ["volatile", "layout", "no setting", "setting", "unordered", "secret"]


@pytest.mark.parametrize(("was", "now"), LEARNT[:-1], ids=NAMES[:-1])
def test_what_a_sheet_learns_is_no_edit_of_what_was_delivered_before(
    amphora: Program, halcyon: Path, was: str, now: str
) -> None:
    amphora("export", "grove-dev", "Weigh ticket", "--as", "ticket")
    amphora("map", "ticket", "grove-test", "--accept")
    assert amphora("import", "ticket", "grove-test", "--yes").code == 0
    (halcyon / "kinds").mkdir()
    (halcyon / "kinds" / "flow.toml").write_text(SHEET.read_text().replace(was, now))
    assert amphora("edits", "grove-test").code == 0
    assert amphora("verify", "grove-test-1").code == 0
    # The package of that day goes in as it would be read today, and there is nothing in it that is not there.
    again = amphora("import", "ticket", "grove-test", "--yes")
    assert (again.code, again.verdict.startswith("Nothing to do: grove-test already has")) == (0, True)
    amphora("practice", "edit", "grove-test.practice", "Weigh ticket", "--set", '/steps/0/do="count"')
    [edited] = amphora("edits", "grove-test", "--json").json["items"]
    assert [change["place"] for change in edited["changes"]] == ["/steps/price/do"]
    amphora("practice", "edit", "grove-test.practice", "Weigh ticket", "--set", '/steps/0/do="compute"')
    amphora("export", "grove-dev", "Weigh ticket", "--as", "ticket")
    amphora("map", "ticket", "grove-test", "--accept")
    assert amphora("import", "ticket", "grove-test", "--yes").code == 0
    assert amphora("verify", "ticket", "grove-test").code == 0


@pytest.mark.parametrize(("was", "now"), LEARNT, ids=NAMES)
def test_what_was_brought_before_a_sheet_learnt_something_can_be_undone(
    amphora: Program, halcyon: Path, was: str, now: str
) -> None:
    before = everything(halcyon, "grove-test")
    amphora("export", "grove-dev", "Weigh ticket", "--as", "ticket")
    amphora("map", "ticket", "grove-test", "--accept")
    assert amphora("import", "ticket", "grove-test", "--yes").code == 0
    (halcyon / "kinds").mkdir()
    (halcyon / "kinds" / "flow.toml").write_text(SHEET.read_text().replace(was, now))
    assert amphora("undo", "last", "--yes").verdict == "grove-test-1 is undone: grove-test is as it was before."
    assert everything(halcyon, "grove-test") == before
    with closing(sqlite3.connect(halcyon / "ledger.sqlite")) as db:
        kept = "".join(row[0] for row in db.execute("select before from touched where run_id = 2"))
    assert ("/hooks/weigh" in kept) is ("secret" not in now)


def test_a_package_of_before_brings_as_layout_what_is_layout_by_now(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Weigh ticket", "--as", "ticket")
    amphora("map", "ticket", "grove-test", "--accept")
    (halcyon / "kinds").mkdir()
    (halcyon / "kinds" / "flow.toml").write_text(
        SHEET.read_text().replace('layout   = ["', 'layout   = ["$.webhook.path", "')
    )
    assert amphora("import", "ticket", "grove-test", "--yes").code == 0
    assert definitions(halcyon, "grove-test", "flow")["weigh-ticket"]["webhook"]["path"] == "/hooks/weigh"
    assert amphora("verify", "ticket", "grove-test").code == 0


def test_what_an_environment_can_do_it_can_do_under_sheets_of_the_workspace(halcyon: Path) -> None:
    with closing(connect("practice:grove-dev.practice", halcyon, "", "")) as inside:
        outside = Sheeted(inside, {}, {})
        can = [name for name in dir(type(inside)) if not name.startswith("_") and callable(getattr(inside, name))]
        assert {"publish", "switch", "probe", "records", "makers"} <= set(can)
        # As Python asks from 3.12 on, whether an object keeps a protocol: without `__getattr__`.
        assert [name for name in can if getattr_static(outside, name, None) is None] == []
