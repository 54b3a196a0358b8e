"""Proof and record: what verify tells apart, what a run leaves to be shown, what is in force where."""

from __future__ import annotations

import csv
import io
import re
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
import xmlschema

from tests.conftest import Done, Program, run_program

FILES = Path(__file__).parents[1] / "files"


@pytest.fixture
def brought(amphora: Program) -> Program:
    """The program, with a letter and a flow in grove-live and their letter in grove-test."""
    assert (
        amphora("export", "grove-dev", "Weigh ticket", "--as", "tickets", "--afterwards", "Tell the gate").code == 0
    )
    for name in ("grove-live", "grove-test"):
        assert amphora("map", "tickets", name, "--accept").code in (0, 1)
    done = amphora("import", "tickets", "grove-live", "--yes", "--why", "The scales are new")
    assert done.code == 0, done.err
    return amphora


def respects(done: Done) -> dict[str, str]:
    rows = [line for line in done.out.splitlines() if "  " in line]
    return {line.split("  ")[0]: line.split("  ")[-1].strip() for line in rows}


def test_a_whole_target_is_proved_in_every_respect(brought: Program) -> None:
    done = brought("verify", "last")
    assert (done.code, done.verdict.startswith("grove-live is as promised: all ")) == (0, True)
    found = respects(done)
    assert found["definitions and states"] == "as promised"
    assert found["references"] == "each leads somewhere"
    assert found["everything else"] == "as before the run"
    assert found["links"] == "where people were told"


def test_edits_removals_and_strangers_are_told_apart(brought: Program, halcyon: Path) -> None:
    brought("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mine"')
    brought("practice", "edit", "grove-live.practice", "Olive", "--set", "title=Dark")
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        db.execute("delete from items where name = 'weigh-ticket'")
        db.commit()
    done = brought("verify", "last", "--json", "--junit", "v.xml")
    causes = {item["key"]: item["cause"] for item in done.json["items"] if item["cause"]}
    assert causes["letter-template:office/weigh-slip"] == "edited there"
    assert causes["flow:intake/weigh-ticket"] == "removed there"
    assert {one["title"]: (one["what"], one["is_ours"]) for one in done.json["elsewhere"]} == {
        "Dark": ("changed", False)
    }
    assert (done.code, "Beside it 1 item changed there since, not by this run." in done.json["verdict"]) == (1, True)
    # The package is looked at since before its latest run, and its own items are told of with it alone.
    whole = brought("verify", "tickets", "grove-live", "--json").json
    assert (whole["since"], [one["title"] for one in whole["elsewhere"]]) == ("grove-live-1", ["Dark"])
    assert "Beside it 1 item changed there since grove-live-1, not by it." in whole["verdict"]
    xmlschema.XMLSchema(FILES / "junit-10.xsd").validate(halcyon / "v.xml")
    text = (halcyon / "v.xml").read_text(encoding="utf-8")
    assert text.count("<failure") == 2
    assert "edited there by ines@halcyon.example at /subject" in text
    markdown = brought("verify", "last", "--md")
    assert (
        markdown.code,
        "| letter-template:office/weigh-slip | edited there |" in markdown.out.replace("\\", ""),
    ) == (
        1,
        True,
    )


def test_a_name_that_is_nowhere_is_a_slip_and_an_empty_target_no_proof(brought: Program) -> None:
    slip = brought("verify", "ticket", "grove-live")
    assert (slip.code, "near: tickets-1.0.0" in slip.err, "amphora import" in slip.err) == (2, True, False), slip.err
    never = brought("verify", "tickets", "grove-test")
    assert (never.code, "was never imported" in never.err) == (3, True)
    assert brought("edits", "grove-test").verdict.startswith("No package is in force in grove-test")


def test_what_was_not_written_so_is_damage_and_no_edit(brought: Program, halcyon: Path) -> None:
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        [[text]] = db.execute("select live from items where name = 'weigh-slip'")
        db.execute("update items set live = ? where name = 'weigh-slip'", (text.replace("ticket", "tikcet"),))
        db.commit()
    found = brought("verify", "last", "--json").json["items"]
    assert {item["cause"] for item in found} == {"", "not what was written"}


def test_what_is_saved_as_it_was_is_not_changed(brought: Program, halcyon: Path) -> None:
    brought("export", "grove-dev", "letter-template:office/*", "--as", "letters")
    for words in (("map", "letters", "grove-live", "--accept"), ("import", "letters", "grove-live", "--yes")):
        assert brought(*words).code == 0
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        db.execute("update items set revision = revision + 1 where name = 'weigh-ticket'")
        db.commit()
    done = brought("verify", "last")
    assert (done.code, "Beside it" in done.verdict, respects(done)["everything else"]) == (
        0,
        False,
        "1 saved again as before",
    )
    assert "Weigh ticket: saved again, and still as it was before the run" in done.out
    brought("practice", "edit", "grove-live.practice", "Weigh ticket", "--set", "/batch=25")
    assert respects(brought("verify", "last"))["everything else"] == "1 changed since, not by it"


def test_needs_and_titles_are_told_as_what_they_are(brought: Program) -> None:
    brought("practice", "edit", "grove-live.practice", "Weigh ticket", "--set", "/batch=25")
    brought("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/subject="T"')
    brought("export", "tickets")
    brought("import", "tickets", "grove-live", "--yes")
    told = brought("history", "last", "--html", "r.html").out
    assert re.search(r"^batch +40 \(setting weigh-ticket-batch\) +25 +40 \(setting", told, re.M)
    brought("practice", "edit", "grove-live.practice", "Weigh slip", "--set", "title=Slip")
    assert respects(brought("verify", "last"))["switched, published"] == "as wished"


def test_what_an_undo_leaves_still_has_to_be_cared_for(brought: Program) -> None:
    before = [
        one["key"] for one in brought("aftercare", "grove-live", "--json").json["open"] if one["kind"] == "secret"
    ]
    assert before == ["flow:intake/weigh-ticket"]
    brought("practice", "edit", "grove-live.practice", "Weigh ticket", "--set", "/batch=25")
    undone = brought("undo", "last", "--yes")
    assert "'Weigh ticket' stays as it is" in undone.out
    # Half a year later "undone" would not be true.
    assert "nothing put back, 1 to do" in brought("history").out
    assert brought("history", "grove-live-1").verdict == "grove-live-1: tickets 1.0.0 into grove-live, not undone."
    assert [(one["stays"], one["returned"]) for one in brought("history", "--json").json["runs"]] == [(7, 0)] * 2
    left = brought("aftercare", "grove-live", "--json").json["open"]
    assert [(one["kind"], one["key"], one["run"]) for one in left] == [("secret", *before, "grove-live-2")]


def test_what_was_put_back_stays_told_when_the_rest_is_tried_again(brought: Program) -> None:
    brought("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="mended"')
    assert brought("undo", "last", "--yes").verdict.endswith("as it was before but for 1 item.")
    again = brought("undo", "grove-live-1", "--yes")
    assert again.verdict == "Nothing more of grove-live-1 was put back: 1 item stays as it is now."
    runs = brought("history", "--json").json["runs"]
    assert [(one["stays"], one["returned"]) for one in runs] == [(1, 0), (1, 6), (1, 6)]
    assert brought("history", "grove-live-1").verdict.endswith("undone but for 1 item.")


def test_a_later_run_takes_the_promise_over(brought: Program) -> None:
    brought("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/subject="T"')
    brought("export", "tickets")
    assert brought("import", "tickets", "grove-live", "--yes").code == 0
    found = brought("verify", "grove-live-1", "--json").json
    assert (found["as_promised"], found["later"]["letter-template:office/weigh-slip"]) == (True, "grove-live-2")


def test_a_connection_that_does_not_answer_is_off(brought: Program, halcyon: Path) -> None:
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db:
        db.execute("update supplies set works = 0 where kind = 'connection'")
        db.commit()
    done = brought("verify", "last", "--json")
    assert (done.code, done.json["next"]) == (1, "amphora env test grove-live")
    assert {one["is_working"] for one in done.json["connections"]} == {False}


def test_a_run_is_told_in_full(brought: Program, halcyon: Path) -> None:
    brought("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", "title=<b>Slip</b>")
    brought("export", "tickets")
    brought("import", "tickets", "grove-live", "--yes", "--why", "<script>alert(1)</script>")
    brought("aftercare", "grove-live", "--tick", "all", "--by", "Mara Lind", "--note", "at the gate")
    told = brought("history", "last", "--html", "r.html", "--json").json
    assert (told["run"]["state"], told["run"]["why"]) == ("complete", "<script>alert(1)</script>")
    [changed] = [item for item in told["items"] if item["changes"]]
    assert (changed["was_called"], changed["title"]) == ("Weigh slip", "<b>Slip</b>")
    assert changed["changes"][0]["target"] == "Weigh slip"
    assert changed["new_link"].startswith("https://www.halcyon.example/")
    assert told["verified"][0]["wrong"] == {}
    first = brought("history", "grove-live-1", "--json").json
    assert {(task["state"], task["by"]) for task in first["aftercare"]} == {("ticked", "Mara Lind")}
    page = (halcyon / "r.html").read_text(encoding="utf-8")
    assert page.count("<svg") == 2
    assert not re.search(r"<script|<b>Slip|(?:src|href)=.?(?:https?:)?//", page)
    assert "&lt;script&gt;" in page
    assert "Mara Lind" not in page  # told with the run that asked for it
    assert "# grove" in brought("history", "last", "--md").out


def test_history_is_narrowed_down_and_goes_into_a_spreadsheet(brought: Program) -> None:
    brought("import", "tickets", "grove-test", "--yes")
    brought("undo", "last", "--yes")
    assert brought("history", "--env", "grove-live").out.count("\ngrove-live-") == 1
    assert brought("history", "--state", "undone", "--json").json["runs"][0]["name"] == "grove-test-1"
    assert len(brought("history", "--by", "KEEPER", "--since", "1 hour", "--json").json["runs"]) == 3
    assert brought("history", "--since", "2999-01-01").verdict == "No such run."
    assert brought("history", "--package", "tickets-9.9.9", "--json").json["runs"] == []
    assert brought("history", "--state", "finished").code == 2
    assert brought("history", "last", "--csv").code == 2
    rows = list(csv.DictReader(io.StringIO(brought("history", "--csv").out)))
    assert [row["why"] for row in rows if row["run"] == "grove-live-1"] == ["The scales are new"]
    assert "still to do" in brought("history").verdict


def test_the_overview_says_what_is_not_in_order(brought: Program, halcyon: Path) -> None:
    assert brought("overview", "--expect-clean").code == 1
    brought("aftercare", "--tick", "all")
    assert brought("overview", "--expect-clean").code == 0
    brought("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mine"')
    brought("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/subject="T"')
    brought("export", "tickets")
    done = brought("overview", "--expect-clean", "--html", "o.html", "--figure", "o.svg", "--json")
    [cell] = done.json["in_force"]
    assert (done.code, cell["edited"], cell["behind"], cell["as_promised"]) == (1, 1, 1, True)
    # An import looks by itself whether all of it is there; nobody has asked for another look.
    assert cell["verified_at"]
    assert done.json["next"] == "amphora edits grove-live"
    assert "1.0.0" in (halcyon / "o.svg").read_text(encoding="utf-8")
    assert "1 behind" in (halcyon / "o.html").read_text(encoding="utf-8")
    # By the ledger alone nobody says that nothing was edited.
    by_ledger = brought("overview", "--from-ledger", "--json").json
    assert by_ledger["in_force"][0]["edited"] is None
    (halcyon / "grove-live.practice").unlink()
    blind = brought("overview", "--expect-clean", "--json")
    assert (blind.code, list(blind.json["not_looked_at"])) == (1, ["grove-live"])


def test_another_environment_of_that_name_is_not_looked_at_for_aftercare(brought: Program, halcyon: Path) -> None:
    (halcyon / "grove-live.practice").unlink()
    (halcyon / "grove-south.practice").rename(halcyon / "grove-live.practice")
    found = brought("aftercare", "--json").json
    assert (len(found["open"]), len(found["not_looked_at"])) == (2, 1)


def test_an_aftercare_run_can_be_undone_and_asks_again(brought: Program, halcyon: Path) -> None:
    text = (halcyon / "crosswalk.yaml").read_text(encoding="utf-8")
    (halcyon / "crosswalk.yaml").write_text(
        f"{text}secrets:\n  weigh-ticket-webhook-token: {{grove-live: env:GATE}}\n", encoding="utf-8"
    )
    done = brought("aftercare", "--do", "--json", GATE="p4-Tz81-qW63")
    assert ([one["kind"] for one in done.json["done"]], done.json["runs"]) == (["secret"], ["grove-live-2"])
    assert "p4-Tz81-qW63" not in done.out
    assert [one["kind"] for one in brought("aftercare", "--json").json["open"]] == ["words"]
    assert run_program(halcyon, "undo", "grove-live-2", "--yes").code == 0
    assert [one["kind"] for one in brought("aftercare", "--json").json["open"]] == ["secret", "words"]
    assert brought("undo", "grove-live-1", "--yes").code == 0
    assert brought("aftercare").verdict == "Nothing is left to do."
    assert brought("aftercare", "--tick", "1").code == 2


def test_what_is_about_an_item_that_somebody_removed_was_done_by_nobody(brought: Program, halcyon: Path) -> None:
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as db, db:
        db.execute("delete from items where title = 'Weigh ticket'")
    brought("aftercare")
    told = brought("history", "last", "--json").json["aftercare"]
    secret = next(entry for entry in told if "webhook-token" in entry["words"])
    assert (secret["state"], secret["note"]) == ("not needed", "it is no longer there")
    traced = brought("deliveries", "grove-live", "Weigh ticket", "--json").json
    assert (traced["there"], len(traced["deliveries"]), traced["next"]) == (False, 1, "amphora edits grove-live")
    assert "it is no longer there" in traced["verdict"]
    assert brought("deliveries", "grove-live", "Weigh slip", "--json").json["there"] is True
