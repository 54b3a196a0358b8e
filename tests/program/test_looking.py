"""Looking round and exporting through the real program."""

from __future__ import annotations

import csv
import io
import json
import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree

import pytest

from tests.conftest import Program
from tests.program.test_pauses import everything


def test_survey_filters_sorts_and_speaks_csv(amphora: Program, halcyon: Path) -> None:
    rows = amphora("survey", "grove-dev", "--json").json["items"]
    assert len(rows) == 38
    by_key = {row["key"]: row for row in rows}
    assert (by_key["table:intake/deliveries"]["uses"], by_key["table:intake/deliveries"]["used_by"]) == (3, 7)
    assert by_key["app:intake/harvest-intake"]["uses"] == 6
    late = amphora("survey", "grove-dev", "--changed-since", "2026-04-05", "--sort", "changed", "--json").json[
        "items"
    ]
    times = [row["modified_at"] for row in late]
    assert times == sorted(times, reverse=True)
    assert min(times) >= "2026-04-05"
    table = list(csv.DictReader(io.StringIO(amphora("survey", "grove-dev", "table:*", "--csv").out)))
    assert [row["rows"] for row in table if row["key"] == "table:intake/deliveries"] == ["10433"]
    assert amphora("survey", "grove-dev", "--sort", "colour").code == 2
    edited = amphora("practice", "edit", "grove-dev.practice", "Press yield", "--set", "/filter=x", "--draft")
    assert edited.code == 0
    drafts = amphora("survey", "grove-dev", "--drafts")
    assert drafts.verdict == "grove-dev shows 1 item: 1 report; 1 with unpublished edits."
    tree = amphora("survey", "grove-dev", "--tree").out
    assert "\nmill\n" in tree
    assert "\n    quality\n        Acidity alert" in tree


@pytest.mark.parametrize("ending", ["svg", "png"])
def test_the_figure_names_every_item(amphora: Program, halcyon: Path, ending: str) -> None:
    path = halcyon / f"net.{ending}"
    assert amphora("uses", "grove-dev", "Press log", "--figure", path).code == 0
    if ending == "svg":
        words = "".join(ElementTree.parse(path).getroot().itertext())
        assert all(title in words for title in ("Press log", "Mill crew", "Olive varieties", "letter-template"))
    else:
        assert path.read_bytes().startswith(b"\x89PNG")
    assert amphora("uses", "grove-dev", "Press log", "--figure", "net.gif").code == 2


def test_a_preview_writes_nothing_and_says_why_each_item_is_in(amphora: Program, halcyon: Path) -> None:
    before = sorted(path.name for path in halcyon.iterdir())
    shown = amphora(
        *("export", "grove-dev", "Press Board", "--as", "press-hall", "--with", "access", "--with", "records"),
        *("--without", "attachments", "--take", "draft", "--preview", "--json"),
    ).json
    assert shown["next"] == (
        "amphora export grove-dev app:mill/press-board --as press-hall --take draft --with access --with records"
        " --without attachments"
    )
    assert shown["preview"]
    assert shown["why"]["theme:house/press-hall"] == "used by app:mill/press-board"
    assert "access-rule:mill/mill-crew" in shown["why"]
    assert not (halcyon / "packages").exists()
    assert sorted(path.name for path in halcyon.iterdir() if not path.name.startswith("ledger")) == before


def test_a_selection_is_kept_and_repeated(amphora: Program, halcyon: Path) -> None:
    first = amphora(
        "export",
        "grove-dev",
        "Harvest Intake",
        "--as",
        "olive-intake",
        "--leave-out",
        "Olive",
        "--with",
        "access",
        "--json",
    ).json
    # Where it goes next: not back where it comes from.
    assert first["next"] == "amphora check olive-intake grove-test"
    again = amphora("export", "olive-intake", "--json").json
    assert again["unchanged"]
    words = ("--with", "records", "--without", "attachments", "--afterwards", "Tell them")
    amphora("export", "grove-dev", "Growers", "--as", "lists", *words)
    # As it was saved, all of it: nothing has to be said twice.
    shown = amphora("export", "lists", "--preview").out.splitlines()[-1]
    assert shown.endswith("--as lists --with records --without attachments"), shown
    assert amphora("export", "lists", "--json").json["unchanged"]
    assert (again["left_out"], again["version"]) == (first["left_out"], "1.0.0")
    assert amphora("export", "olive-intake").verdict.startswith("Nothing changed since olive-intake 1.0.0")
    amphora("practice", "edit", "grove-dev.practice", "Weigh ticket", "--set", "/steps/0/script=x", "--draft")
    drafts = amphora("export", "olive-intake")
    assert "Unpublished edits not taken: Weigh ticket (by ines@halcyon.example" in drafts.out
    assert amphora("export", "olive-intake", "--take", "draft", "--json").json["unchanged"] is False
    toml = (halcyon / "amphora.toml").read_text()
    assert 'take = "draft"' in toml
    assert amphora("export", "grove-dev", "--as", "x").code == 2


@pytest.mark.parametrize(
    ("change", "version"),
    [
        ((), "1.0.0"),
        (("title=Weighing",), "1.0.1"),
        (("/steps/0/script=new",), "1.0.1"),
        (("/steps/0/do=store",), "1.1.0"),
    ],
)
def test_versions_follow_the_contents(amphora: Program, change: tuple[str, ...], version: str) -> None:
    amphora("export", "grove-dev", "Weigh ticket", "--as", "w")
    for text in change:
        assert amphora("practice", "edit", "grove-dev.practice", "Weigh ticket", "--set", text).code == 0
    assert amphora("export", "w", "--json").json["version"] == version
    taken = amphora("export", "grove-dev", "Press yield", "--as", "w", "--version", "1.0.0")
    assert (taken.code, "exists with other contents" in taken.err) == (2, True)
    assert amphora("export", "grove-dev", "Weigh slip", "--as", "w", "--json").json["version"] == "2.0.0"


def test_what_was_never_published_has_no_live_version(amphora: Program, halcyon: Path) -> None:
    from amphora.practice.platform import Platform

    platform = Platform(halcyon / "grove-dev.practice", "ines@halcyon.example", lambda: "2026-05-01T00:00:00Z")
    for name, title in (("new", "New letter"), ("newer", "Newer letter")):
        platform.create("letter-template", "mill", name, title, {"subject": "x", "body": "b"}, None, name)
    platform.close()
    refused = amphora("export", "grove-dev", "New letter", "Newer letter", "--as", "n")
    assert (refused.code, "'New letter' was never published" in refused.err) == (3, True)
    assert "nor was letter-template:mill/newer" in refused.err
    assert amphora("export", "grove-dev", "New letter", "--as", "n", "--take", "draft").code == 0
    # Where it is carried as the draft that it is, its draft is what counts there.
    assert "; 1 item verified." in amphora("import", "n", "grove-test", "--yes").verdict
    assert amphora("verify", "n", "grove-test").code == 0
    assert amphora("import", "n", "grove-test", "--yes").verdict == "Nothing to do: grove-test already has n 1.0.0."
    assert amphora("edits", "grove-test", "--json").json["items"] == []
    for place, change in (("grove-test", '/body="theirs"'), ("grove-dev", '/subject="ours"')):
        words = (f"{place}.practice", "New letter", "--set", change, "--draft", "--by", "ines@halcyon.example")
        assert amphora("practice", "edit", *words).code == 0
    assert amphora("export", "n", "--json").json["version"] == "1.0.1"
    [action] = amphora("compare", "n", "grove-test", "--json").json["actions"]
    assert {one["place"]: one["by"] for one in action["changes"]} == {"/subject": "package", "/body": "target"}
    carried = amphora("edits", "grove-test", "--carry-back", "--json").json
    [edit] = carried["items"]
    assert edit["changes"] == [{"place": "/body", "delivered": "b", "now": "theirs"}]
    shown = amphora("peek", carried["package"], edit["key"], "--json").json
    assert shown["form"] == {"subject": "x", "body": "theirs"}


def test_rows_travel_only_when_asked_for_on_both_sides(amphora: Program, halcyon: Path) -> None:
    plain = amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--json").json
    full = amphora(
        "export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--with", "records", "--json"
    ).json
    assert (plain["version"], full["version"]) == ("1.0.0", "1.0.1")
    assert amphora("export", "olive-intake", "--json").json["unchanged"]
    tables = ["table:growers/groves", "table:growers/growers", "table:intake/deliveries"]
    assert list(amphora("peek", "olive-intake", "--json").json["records"]) == tables
    assert amphora("import", "olive-intake-1.0.0", "grove-live", "--yes", "--with", "records").code == 2
    assert amphora("import", "olive-intake", "grove-test", "--yes").code == 0
    assert _rows(amphora, "grove-test") == dict.fromkeys(tables)
    # Rows alone are something to do: said before, and brought.
    later = ("import", "olive-intake", "grove-test", "--with", "records")
    assert "0 new, 0 changed, 11,812 rows to load, nothing removed." in amphora(*later, "--preview").verdict
    assert "0 created, 0 updated, 11,812 rows loaded; all" in amphora(*later, "--yes").verdict
    assert amphora(*later, "--yes").verdict == "Nothing to do: grove-test already has olive-intake 1.0.1."
    done = amphora("import", "olive-intake", "grove-live", "--yes", "--with", "records")
    assert "11,812 rows were loaded into 3 tables." in done.out
    assert _rows(amphora, "grove-live") == {tables[0]: 967, tables[1]: 412, tables[2]: 10433}
    assert amphora("import", "olive-intake", "grove-live", "--yes", "--with", "records").verdict.startswith(
        "Nothing to do"
    )
    assert amphora("undo", "last", "--yes").code == 0
    assert amphora("to-folder", "olive-intake", "intake").code == 0
    packed = amphora("from-folder", "intake", "--out", "again.amphora", "--json").json
    assert packed["package_digest"] == amphora("peek", "olive-intake", "--json").json["package_digest"]
    assert len((halcyon / "intake/data/records/table/growers/growers.jsonl").read_text().splitlines()) == 412


def _rows(amphora: Program, environment: str) -> dict[str, int | None]:
    items = amphora("survey", environment, "table:*", "--json").json["items"]
    return {item["key"]: item["rows"] for item in items}


def test_a_package_in_any_form_can_be_compared_and_imported(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    assert amphora("to-folder", "olive-intake", "intake").code == 0
    assert amphora("compare", "olive-intake", "intake").verdict == "olive-intake and intake are the same."
    packed = amphora("from-folder", "intake", "--out", "again.amphora", "--json").json
    # With its ending, too, as a list of the folder shows it.
    for name in ("olive-intake", "olive-intake-1.0.0.amphora"):
        assert packed["package_digest"] == amphora("peek", name, "--json").json["package_digest"]
    item = halcyon / "intake" / "data" / "items" / "flow" / "intake" / "weigh-ticket.json"
    item.write_text(item.read_text().replace('"/hooks/weigh"', '"/hooks/scale"'), encoding="utf-8")
    refused = amphora("from-folder", "intake")
    assert (refused.code, "exists with other contents" in refused.err) == (2, True)
    done = amphora("import", "intake", "grove-live", "--yes")
    assert done.code == 0, done.err
    assert amphora("compare", "grove-dev", "grove-live", "Weigh ticket").code == 1


def test_attachments_and_access_can_stay_out(amphora: Program, halcyon: Path) -> None:
    def packed(name: str) -> list[str]:
        return zipfile.ZipFile(next((halcyon / "packages").glob(f"{name}-*.amphora"))).namelist()

    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "bare", "--without", "attachments").code == 0
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--with", "access").code == 0
    assert [any("/data/files/" in name for name in packed(n)) for n in ("bare", "olive-intake")] == [False, True]
    done = amphora("import", "olive-intake", "grove-live", "--yes", "--without", "attachments", "--without", "access")
    assert done.code == 0, done.err
    assert "access-rule" not in done.out
    there = amphora("compare", "bare", "grove-live", "--json").json
    assert {row["do"] for row in there["actions"]} == {"leave"}
    assert amphora("import", "olive-intake", "grove-live", "--yes").code == 0
    assert amphora("import", "bare", "grove-live", "--yes").verdict.startswith("Nothing to do")
    icon = amphora("compare", "olive-intake", "grove-live", "--json").json
    assert {row["do"] for row in icon["actions"]} == {"leave"}


def test_a_saved_selection_survives_what_was_removed(amphora: Program, halcyon: Path) -> None:
    assert amphora("export", "grove-dev", "Olive varieties", "Weigh slip", "--as", "some").code == 0
    with closing(sqlite3.connect(halcyon / "grove-dev.practice")) as db:
        db.execute("delete from items where name = 'weigh-slip'")
        db.commit()
    told = amphora("export", "some", "--json").json
    assert (told["gone"], told["version"]) == (["letter-template:office/weigh-slip"], "2.0.0")
    assert amphora("export", "some", "--json").json["gone"] == []
    # Said on the command line, a name that means nothing is a slip as ever.
    assert amphora("export", "grove-dev", "Weigh slip", "--as", "one").code == 2
    with closing(sqlite3.connect(halcyon / "grove-dev.practice")) as db:
        db.execute("delete from items where name = 'olive-varieties'")
        db.commit()
    assert amphora("export", "some").code == 2


def test_numbers_that_no_package_holds_are_in_nobodys_way_but_their_own(amphora: Program, halcyon: Path) -> None:
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        text = json.dumps({"colours": {}, "id": 2**60, "more": 10**40})
        db.execute("update items set live = ? where title = 'Olive'", (text,))
        db.commit()
    assert amphora("survey", "grove-live", "--json").code == 0
    before = everything(halcyon)
    amphora("export", "grove-dev", "Weigh slip", "--as", "slip")
    amphora("map", "slip", "grove-live", "--accept")
    assert "1 item verified" in amphora("import", "slip", "grove-live", "--yes").verdict
    assert amphora("verify", "slip", "grove-live").code == 0
    assert amphora("undo", "last", "--yes").verdict == "grove-live-1 is undone: grove-live is as it was before."
    assert everything(halcyon) == before
    refused = amphora("export", "grove-live", "Olive", "--as", "o")
    assert (refused.code, "theme:house/olive can't be packed" in refused.err, "At /id." in refused.err) == (
        3,
        True,
        True,
    )
    # What is replaced is kept as it was, to the digit.
    amphora("export", "grove-dev", "Olive", "--as", "o")
    assert amphora("import", "o", "grove-live", "--yes", "--replace", "Olive").code == 0
    assert amphora("undo", "last", "--yes").code == 0
    assert everything(halcyon) == before
    # Beside what is brought, it is a local edit like any other.
    amphora("import", "o", "grove-live", "--yes", "--replace", "Olive")
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        db.execute("update items set live = json_set(live, '$.id', ?) where title = 'Olive'", (2**60,))
        db.commit()
    amphora("practice", "edit", "grove-dev.practice", "Olive", "--set", '/font="Alegreya Sans"')
    amphora("export", "o")
    assert amphora("compare", "o", "grove-live", "--docket", "d.yaml").code == 1
    assert "1 local edit kept; 1 item verified" in amphora("import", "d.yaml", "--yes").verdict
    assert amphora("verify", "o", "grove-live").code == 0
    [there] = [row for row in everything(halcyon) if "Alegreya Sans" in str(row)]
    assert str(2**60) in str(there)


def test_rows_are_carried_to_the_digit(amphora: Program, halcyon: Path) -> None:
    where = "item_id = (select id from items where title = 'Growers') and number = 0"
    with closing(sqlite3.connect(halcyon / "grove-dev.practice")) as db:
        db.execute(f"update records set body = ? where {where}", (json.dumps({"id": 2**60, "more": 10**40}),))
        db.commit()
    amphora("export", "grove-dev", "Growers", "--as", "g", "--with", "records")
    amphora("map", "g", "grove-live", "--accept")
    assert amphora("import", "g", "grove-live", "--yes", "--with", "records").code == 0
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        [[body]] = db.execute(f"select body from records where {where}").fetchall()
    assert json.loads(body) == {"id": 2**60, "more": 10**40}
