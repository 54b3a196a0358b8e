"""The guided way, agreement to dockets, and the page for whoever approves."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Done, Program, run_program


@pytest.fixture
def petra(halcyon: Path, tmp_path: Path) -> Program:
    """The program as somebody else runs it, with a configuration folder of their own."""
    return lambda *words, **variables: run_program(
        halcyon, *words, XDG_CONFIG_HOME=str(tmp_path / "petra"), **variables
    )


@pytest.fixture
def ines(halcyon: Path, tmp_path: Path) -> Program:
    """And as whoever imports runs it."""
    return lambda *words, **variables: run_program(
        halcyon, *words, XDG_CONFIG_HOME=str(tmp_path / "ines"), **variables
    )


def policy(halcyon: Path, line: str) -> None:
    path = halcyon / "amphora.toml"
    path.write_text(f"{path.read_text(encoding='utf-8')}[policies]\n{line}\n", encoding="utf-8")


def test_an_import_into_live_needs_the_agreement_of_others(ines: Program, petra: Program, halcyon: Path) -> None:
    policy(halcyon, "approvals = 1")
    ines("export", "grove-dev", "Olive varieties", "--as", "lists")
    refused = ines("import", "lists", "grove-live", "--yes")
    assert (refused.code, "needs the agreement of 1 trusted person beside you" in refused.err) == (3, True)
    # For a test environment nobody has to agree.
    assert ines("import", "lists", "grove-test", "--yes").code == 0
    made = ines("compare", "lists", "grove-live", "--docket", "d.yaml", "--json")
    assert (made.code, made.json["in_the_way"][0]["why"]) == (3, "agreement")
    assert ines("sign", "d.yaml", "--key", "petra").code == 2
    petra("keys", "new", "petra")
    assert petra("sign", "d.yaml", "--key", "petra").verdict == "petra has agreed: lists 1.0.0 into grove-live."
    assert ines("peek", "d.yaml", "--json").json["agreed"][0]["counts"] is True
    # Whoever imports has not agreed to it by signing it, too.
    own = petra("import", "d.yaml", "--yes")
    assert (own.code, "whoever imports can't agree to it" in own.err) == (3, True)
    text = (halcyon / "d.yaml").read_text(encoding="utf-8")
    (halcyon / "e.yaml").write_text(text.replace("custody: package", "custody: target"), encoding="utf-8")
    assert ines("peek", "e.yaml", "--json").json["agreed"][0]["counts"] is False
    assert ines("import", "e.yaml", "--yes").code == 3
    # It is not written over without a word, unless it says the same.
    assert ines("compare", "lists", "grove-live", "--docket", "d.yaml").code == 1
    assert ines("peek", "d.yaml", "--json").json["agreed"][0]["counts"] is True
    over = ines("compare", "lists", "grove-live", "--docket", "d.yaml", "--choose", "Olive varieties=leave")
    assert (over.code, "is a docket that 1 agreed to" in over.err) == (3, True)
    # Comments and order are no contents.
    (halcyon / "f.yaml").write_text(f"# looked at on Friday\n{text}", encoding="utf-8")
    assert ines("peek", "f.yaml", "--json").json["agreed"][0]["counts"] is True
    # Nor to more than stands in it.
    assert ines("import", "d.yaml", "--yes", "--with", "records").code in (2, 3)
    (halcyon / "keys" / "petra.jwk.json").rename(halcyon / "petra.away")
    assert ines("import", "d.yaml", "--yes").code == 3
    (halcyon / "petra.away").rename(halcyon / "keys" / "petra.jwk.json")
    assert ines("import", "d.yaml", "--yes").code == 0
    assert ines("history", "last", "--json").json["agreed_by"][0].startswith("petra (")


def test_rows_are_agreed_to_with_everything_else(ines: Program, petra: Program, halcyon: Path) -> None:
    policy(halcyon, "approvals = 1")
    (halcyon / "crosswalk.yaml").write_text("connections:\n  office-db-dev: {grove-live: office-main}\n")
    ines("export", "grove-dev", "Growers", "--as", "growers", "--with", "records")
    said = ("compare", "growers", "grove-live", "--with", "records")
    named = "amphora compare growers-1.0.0 grove-live --with records --docket growers-1.0.0.grove-live.docket.yaml"
    assert ines(*said).out.splitlines()[-1] == f"Next: {named}"
    made = ines(*said, "--docket", "d.yaml", "--html", "page.html", "--json")
    assert (made.code, made.json["rows"]) == (3, {"table:growers/growers": 412})
    assert "412 rows of data go along, into 1 table." in (halcyon / "page.html").read_text("utf-8")
    assert ines("peek", "d.yaml", "--json").json["records"] is True
    petra("keys", "new", "petra")
    agreed = petra("sign", "d.yaml", "--key", "petra")
    assert agreed.out.splitlines()[-1] == "Next: Somebody else imports it: amphora import d.yaml"
    assert ines("import", "d.yaml", "--yes").code == 0
    # What belongs to an option is none itself: a file of that name would be written.
    slip = ines("compare", "growers", "grove-live", "--docket", "--with", "records")
    assert (slip.code, slip.err.splitlines()[0]) == (2, "--docket takes a value, and --with is an option.")
    assert not (halcyon / "--with").exists()


def test_signing_twice_is_one_agreement_and_open_questions_are_none(
    ines: Program, petra: Program, halcyon: Path
) -> None:
    policy(halcyon, "approvals = {live = 2}")
    ines("carry", "Weigh slip", "grove-dev", "grove-test", "--as", "slips", "--accept", "--yes")
    ines("export", "grove-dev", "Olive varieties", "--as", "lists")
    ines("compare", "lists", "grove-live", "--docket", "d.yaml")
    petra("keys", "new", "petra")
    petra("sign", "d.yaml", "--key", "petra")
    again = petra("sign", "d.yaml", "--key", "petra", "--json").json
    assert (len(again["agreed"]), again["needed"]) == (1, 2)
    assert "1 more needed" in again["verdict"]
    for name, subject in (("dev", "A"), ("test", "B")):
        ines("practice", "edit", f"grove-{name}.practice", "Weigh slip", "--set", f'/subject="{subject}"')
    ines("export", "slips")
    ines("compare", "slips", "grove-test", "--docket", "q.yaml")
    refused = petra("sign", "q.yaml", "--key", "petra")
    assert (refused.code, "nothing was signed" in refused.err) == (3, True)
    assert "agreed:" not in (halcyon / "q.yaml").read_text(encoding="utf-8")
    asked = ines("peek", "q.yaml", "--json").json
    assert asked["open"] == ["letter-template:office/weigh-slip /subject"]
    (halcyon / "q.yaml").write_text(
        (halcyon / "q.yaml").read_text(encoding="utf-8") + "agreed: yes please\n", encoding="utf-8"
    )
    assert ines("peek", "q.yaml").code == 2


@pytest.mark.parametrize(
    "line", ["approvals = -1", 'approvals = "two"', "approvals = {prod = 1}", "approvals = true"]
)
def test_a_policy_that_means_nothing_is_refused(line: str, amphora: Program, halcyon: Path) -> None:
    policy(halcyon, line)
    refused = amphora("env", "list")
    assert (refused.code, "approvals" in refused.err) == (2, True)


def test_the_page_tells_an_approver_what_will_happen(amphora: Program, halcyon: Path) -> None:
    amphora("carry", "Weigh ticket", "grove-dev", "grove-test", "--as", "tickets", "--accept", "--yes")
    amphora("practice", "edit", "grove-dev.practice", "Weigh ticket", "--set", '/steps/0/script="a\\nb"')
    amphora("practice", "edit", "grove-test.practice", "Weigh ticket", "--set", '/steps/0/script="c\\nd"')
    amphora("practice", "edit", "grove-test.practice", "Weigh slip", "--set", '/subject="<i>Mine</i>"')
    amphora("export", "tickets", "--note", "The scales are new")
    assert amphora("compare", "tickets", "grove-test", "--html", "p.html").code == 3
    page = (halcyon / "p.html").read_text(encoding="utf-8")
    for words in (
        "Somebody changed 2 items there directly",
        "on 1 of them somebody still has to decide",
        "the rest stays",
        "The scales are new",
        "Last changed by ines@halcyon.example",
        "both sides changed it",
        "&lt;i&gt;Mine&lt;/i&gt;",
        "stays as it is there",
        "How to read this",
        "@media print",
        "not signed",
    ):
        assert words in page, words
    # No token stands there raw, and nothing is fetched.
    assert "amphora:" not in page.replace("amphora sign", "").replace("amphora compare", "")
    assert "http-equiv" in page
    assert "src=" not in page


def carried(amphora: Program, *more: str) -> Done:
    return amphora("carry", "letter-template:office/weigh-slip", "grove-dev", "grove-test", "--as", "slips", *more)


def test_the_guided_way_stops_where_somebody_has_to_say_something(amphora: Program, halcyon: Path) -> None:
    (halcyon / "crosswalk.yaml").unlink()
    dry = carried(amphora, "--dry", "--json").json
    assert (dry["verdict"].startswith("These would be run"), list(halcyon.glob("packages/*"))) == (True, [])
    asked = amphora("carry", "Weigh ticket", "grove-dev", "grove-test", "--as", "tickets", "--yes")
    assert (asked.code, asked.out.splitlines()[-1]) == (
        3,
        'Next: amphora carry "Weigh ticket" grove-dev grove-test --as tickets --accept --yes',
    )
    unsure = carried(amphora, "--accept")
    assert (unsure.code, "Nobody is here to confirm; nothing was touched." in unsure.verdict) == (3, True)
    assert not amphora("history", "--json").json["runs"]
    done = carried(amphora, "--accept", "--yes", "--why", "New paper", "--json").json
    assert [step["code"] for step in done["steps"]][-1] == 0
    assert amphora("history", "last", "--json").json["run"]["why"] == "New paper"
    again = carried(amphora, "--accept", "--yes", "--json").json
    assert "Nothing to do" in next(step["verdict"] for step in again["steps"] if " import " in step["command"])
    for words in ((), ("grove-dev",), ("Weigh slip",), ("Weigh slip", "grove-dev", "grove-dev")):
        assert amphora("carry", *words).code == 2


@pytest.mark.parametrize("how", ["keep", "replace", "carry-back"])
def test_local_edits_are_told_first(how: str, amphora: Program) -> None:
    assert carried(amphora, "--accept", "--yes").code == 0
    amphora("practice", "edit", "grove-test.practice", "Weigh slip", "--set", '/subject="Mine"')
    amphora("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", "title=Slip", "--set", '/subject="Ours"')
    stopped = carried(amphora, "--accept", "--yes")
    assert (stopped.code, stopped.verdict) == (3, "grove-test has local edits: say what becomes of them.")
    done = carried(amphora, "--accept", "--yes", "--edits", how)
    if how == "carry-back":
        assert (done.code, done.out.splitlines()[-1]) == (3, "Next: amphora compare grove-test-edits grove-dev")
        return
    assert done.code == 0, done.err
    shown = amphora("survey", "grove-test", "letter-template:office/weigh-slip", "--json").json["items"][0]
    assert shown["title"] == "Slip"
    # A clash is decided for the side that was named; all else of both sides comes together.
    subject = amphora("compare", "slips", "grove-test", "--all", "--json").json["actions"][0]["changes"]
    assert [change["target"] for change in subject] == (["Mine"] if how == "keep" else [])
    edited = amphora("edits", "grove-test", "--json").json["items"]
    assert [one["by"] for one in edited] == (["ines@halcyon.example"] if how == "keep" else [])
    # Edited again, with nothing new to bring: what was to stay is no stop.
    amphora("practice", "edit", "grove-test", "Slip", "--set", '/subject="Later"')
    again = carried(amphora, "--accept", "--yes", "--edits", how)
    said = ", but for 1 local edit kept there." if how == "keep" else ", and as promised."
    assert (again.code, said in again.verdict) == (0, True), again.out + again.err
