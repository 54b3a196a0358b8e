"""One import into many targets: all pass the gate before any is touched; what is done stays, what failed is put back,
what has not begun waits."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.values.errors import UsageFault
from amphora.engine import rounds
from amphora.engine.rounds import rounds_of
from tests.conftest import Program
from tests.program.test_pauses import everything

SITES = ("grove-test", "grove-live", "grove-south")


@pytest.fixture
def small(amphora: Program, halcyon: Path) -> Program:
    """A package for three targets, of which one lacks two mappings, and a group of them."""
    with (halcyon / "amphora.toml").open("a", encoding="utf-8") as file:
        file.write('[groups]\nsites = ["grove-test", "grove-live", "grove-south"]\n')
    assert amphora("export", "grove-dev", "Weigh slip", "Growers", "--as", "small").code == 0
    return amphora


def mapped(small: Program) -> None:
    given = ("--accept", "--set", "intake-desk=intake@south.halcyon.example")
    assert small("map", "small", "grove-south", *given).code == 0


def refusing(halcyon: Path, name: str, is_on: bool) -> None:
    """Lets an environment refuse new items, or take them again."""
    with closing(sqlite3.connect(halcyon / f"{name}.practice")) as there:
        there.execute(
            "create trigger no_more before insert on items begin select raise(abort, 'not now'); end"
            if is_on
            else "drop trigger no_more"
        )
        there.commit()


def states(done: object) -> list[tuple[str, str]]:
    return [(one["target"], one["state"]) for one in done["targets"]]  # type: ignore[index]


def test_rounds() -> None:
    assert rounds_of(["a", "b", "c"], "") == rounds_of(["a", "b", "c"], "all") == [["a", "b", "c"]]
    assert rounds_of(["a", "b", "c"], "one-then-rest") == [["a"], ["b", "c"]]
    assert rounds_of(["a"], "one-then-rest") == [["a"]]
    assert rounds_of(["a", "b", "c"], "2") == [["a", "b"], ["c"]]
    for wrong in ("0", "-1", "two", "1.5"):
        with pytest.raises(UsageFault, match="--rounds is"):
            rounds_of(["a"], wrong)


def test_all_pass_the_gate_before_any_is_touched(small: Program, halcyon: Path) -> None:
    before = [everything(halcyon, name) for name in SITES]
    refused = small("import", "small", "sites", "--yes")
    assert refused.code == 3
    assert "can't go to 1 of 3 targets as it stands; nothing was touched anywhere" in refused.err
    assert "grove-south: 2 needs" in refused.err
    assert "Next: amphora map small-1.0.0 grove-south" in refused.err
    shown = small("import", "small", "sites", "--preview")
    assert (shown.code, "1 not as it stands" in shown.verdict) == (3, True)
    assert small("import", "small", "sites").code == 3
    assert [everything(halcyon, name) for name in SITES] == before


def test_the_first_bad_one_stops_the_rest_and_the_next_command_brings_it(small: Program, halcyon: Path) -> None:
    mapped(small)
    before = everything(halcyon)
    assert "Nobody is here" in small("import", "small", "sites").err
    refusing(halcyon, "grove-live", True)
    stopped = small("import", "small", "sites", "--rounds", "1", "--yes", "--json")
    assert stopped.code == 6
    assert states(stopped.json) == [
        ("grove-test", "done"),
        ("grove-live", "put back"),
        ("grove-south", "not begun"),
    ]
    assert stopped.json["verdict"].startswith("Stopped: small 1.0.0 is done in grove-test; put back in grove-live;")
    assert (stopped.json["campaign"], stopped.json["next"]) == ("many-1", "amphora resume many-1")
    assert everything(halcyon) == before
    # In the first round nothing is done yet: then the targets are all as they were.
    alone = small("import", "small", "grove-live", "grove-south", "--rounds", "one-then-rest", "--yes", "--json")
    assert (alone.code, states(alone.json)) == (4, [("grove-live", "put back"), ("grove-south", "not begun")])
    onwards = small("import", "small", "sites", "--yes", "--go-on", "--json")
    assert onwards.code == 6
    assert states(onwards.json) == [
        ("grove-test", "nothing to do"),
        ("grove-live", "put back"),
        ("grove-south", "done"),
    ]
    refusing(halcyon, "grove-live", False)
    done = small("import", "small", "sites", "--yes", "--json")
    assert (done.code, states(done.json)[1]) == (0, ("grove-live", "done"))
    # What is done everywhere by now has nothing left to be brought.
    assert (
        small("resume", "many-1").verdict == "Done: small 1.0.0 is in grove-test, grove-live, grove-south (many-1)."
    )
    assert small("verify", "small", "grove-south").code == 0
    # Each target has a run of its own, which can be undone by itself.
    assert small("undo", done.json["targets"][1]["run"], "--yes").code == 0
    assert everything(halcyon) == before


def test_what_remains_is_brought_and_only_that(small: Program, halcyon: Path) -> None:
    mapped(small)
    before = [everything(halcyon, name) for name in SITES]
    refusing(halcyon, "grove-live", True)
    # Side by side: the others are done by the time that one is bad, or are not begun.
    first = small("import", "small", "sites", "--yes", "--json")
    assert (first.code, dict(states(first.json))["grove-live"]) == (6, "put back")
    assert small().verdict == "many-1 is not finished."
    assert small("history", "many-1", "--json").json["next"] == "amphora resume many-1"
    runs = len(small("history", "--json").json["runs"])
    again = small("resume", "--json")
    assert (again.code, dict(states(again.json))["grove-live"]) == (6, "put back")
    refusing(halcyon, "grove-live", False)
    # The package of a campaign that waits is in the ledger: whoever goes on needs no file.
    for path in (halcyon / "packages").iterdir():
        path.unlink()
    assert "1 target: all can go" in small("resume", "--preview").verdict
    done = small("resume", "--json")
    assert (done.code, set(dict(states(done.json)).values())) == (0, {"done"})
    # One more for each of the others that was not begun at first, which depends on the threads.
    later = sum(state == "not begun" for state in dict(states(first.json)).values())
    assert len(small("history", "--json").json["runs"]) == runs + 3 + later
    assert small("resume", "many-1").code == 3
    assert small("history", "many-1").verdict.startswith("many-1: small 1.0.0 into 3 targets, done;")
    assert small().verdict.startswith("Nothing is open.")
    for name in SITES:
        assert small("verify", "small", name).code == 0
    # Taken back in one of them, then in the rest.
    assert small("undo", "many-1", "--only", "grove-dev", "--yes").code == 2
    assert small("undo", "many-1").code == 3
    one = small("undo", "many-1", "--only", "grove-south", "--yes", "--json")
    assert (one.code, [run["run"] for run in one.json["runs"]]) == (0, ["grove-south-1"])
    assert everything(halcyon, "grove-south") == before[2]
    shown = small("undo", "many-1", "--preview")
    assert "would put back 2 runs: grove-live, grove-test" in shown.verdict
    rest = small("undo", "many-1", "--yes")
    assert rest.verdict == "many-1 is undone: as it was before in grove-live, grove-test."
    assert [everything(halcyon, name) for name in SITES] == before
    assert small("undo", "many-1", "--yes").code == 3


def test_an_undo_of_many_names_what_stays_and_refuses_what_is_not_the_latest(small: Program, halcyon: Path) -> None:
    assert small("import", "small", "grove-test", "grove-live", "--yes").code == 0
    small("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mine"')
    found = small("undo", "many-1", "--yes")
    assert found.code == 1
    assert (
        found.verdict
        == "many-1 is undone: as it was before in grove-test; but for what is named below in grove-live."
    )
    assert "Weigh slip" in found.out
    assert small("import", "small", "grove-test", "grove-live", "--yes", "--copy", "b").code == 0
    assert small("export", "grove-dev", "Fruit condition", "--as", "other").code == 0
    assert small("import", "other", "grove-test", "--yes").code == 0
    refused = small("undo", "many-2", "--yes")
    assert (refused.code, "is not the latest run into grove-test" in refused.err) == (3, True)
    assert small("undo", "grove-test-1", "--only", "grove-test", "--yes").code == 2


PAUSING = """connections:
  lab-exchange-dev: {made_from: integration:lab/lab-exchange, grove-test: lab-exchange-test}
  mill-db-dev: {grove-live: mill-main, grove-test: mill-db-test}
  office-db-dev: {grove-live: office-main, grove-test: office-db-test}
settings:
  lab-exchange-every_minutes: {any: 5}
  lab-result-intake-batch: {any: 20}
"""


def test_a_target_that_waits_for_something_made_by_hand_waits_by_itself(amphora: Program, halcyon: Path) -> None:
    (halcyon / "crosswalk.yaml").write_text(PAUSING, encoding="utf-8")
    before = [everything(halcyon, name) for name in SITES[:2]]
    amphora("export", "grove-dev", "Lab exchange", "Lab result intake", "--as", "lab")
    begun = amphora("import", "lab", "grove-test", "grove-live", "--yes", "--json")
    assert (begun.code, states(begun.json)) == (5, [("grove-test", "done"), ("grove-live", "paused")]), begun.err
    assert begun.json["verdict"].startswith("Paused: lab 1.0.0 is done in grove-test; paused in grove-live")
    waits = amphora("resume", "many-1")
    assert (waits.code, "To be made there by hand: lab-exchange-dev" in waits.out) == (5, True)
    assert amphora("resume", "many-1", "--set", "a=b").code == 2
    amphora("practice", "connect", "grove-live.practice", "exchange-live", "--type", "exchange")
    assert amphora("resume", "grove-live-1", "--set", "lab-exchange-dev=exchange-live").code == 0
    assert amphora("resume", "many-1").verdict == "Done: lab 1.0.0 is in grove-test, grove-live (many-1)."
    assert amphora("undo", "many-1", "--yes").code == 0
    assert [everything(halcyon, name) for name in SITES[:2]] == before


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ('sites = ["grove-test", "grove-nowhere"]', "there is no environment 'grove-nowhere'"),
        ('grove-live = ["grove-test"]', "'grove-live' is an environment already"),
        ("sites = []", "a group is a list of environments"),
        ('sites = "grove-test"', "a group is a list of environments"),
    ],
)
def test_a_group_that_means_nothing_is_refused_with_its_line(
    amphora: Program, halcyon: Path, line: str, words: str
) -> None:
    with (halcyon / "amphora.toml").open("a", encoding="utf-8") as file:
        file.write(f"[groups]\n{line}\n")
    refused = amphora("env", "list")
    assert refused.code == 2
    assert words in refused.err
    assert "line " in refused.err


def test_a_group_stands_wherever_an_environment_can(small: Program) -> None:
    checked = small("check", "small", "sites", "--json")
    assert {finding["target"] for finding in checked.json["findings"] if finding["rule"] == "need-open"} == {
        "grove-south"
    }
    assert "grove-south" in small("map", "small", "sites").out
    wrong = small("check", "small", "sights")
    assert wrong.code == 2
    assert "sites" in wrong.err


def test_several_targets_are_verified_and_told_what_is_left_to_do(small: Program, halcyon: Path) -> None:
    mapped(small)
    assert small("import", "small", "sites", "--yes").code == 0
    assert small("verify", "small", "sites").verdict == "All 3 targets are as promised: small."
    small("practice", "edit", "grove-live.practice", "Weigh slip", "--set", '/subject="Mine"')
    found = small("verify", "small", "sites", "--json")
    assert found.code == 1
    assert found.json["verdict"] == "1 of 3 targets is not as promised: grove-live."
    assert found.json["next"] == "amphora edits grove-live"
    assert [len([item for item in one["items"] if item["as_promised"]]) for one in found.json["targets"]] == [2, 1, 2]
    assert small("export", "grove-dev", "Weighbridge feed", "--as", "feed").code == 0
    given = ("--accept", "--set", "weighbridge-feed-every_minutes=5")
    for name in ("grove-test", "grove-live"):
        small("map", "feed", name, *given)
    done = small("import", "feed", "grove-test", "grove-live", "--yes")
    assert done.code == 0, done.err
    assert "grove-live: still to do" in done.out
    assert done.out.count("Enter secret weighbridge-feed-access-key") == 2


def test_what_is_given_up_is_closed(small: Program, halcyon: Path) -> None:
    refusing(halcyon, "grove-test", True)
    assert small("import", "small", "grove-test", "grove-live", "--rounds", "1", "--yes").code == 4
    assert small().verdict == "many-1 is not finished."
    assert small("undo", "many-1", "--preview").verdict.endswith("it would be closed.")
    assert small("undo", "many-1").verdict == "Of many-1 nothing is in force in any target; it is closed."
    assert small().verdict == "Nothing is open."
    assert small("undo", "many-1").code == 3


def test_several_targets_are_compared_and_what_they_share_is_told_once(small: Program) -> None:
    shown = small("compare", "small", "sites", "--json")
    assert (shown.code, shown.json["verdict"]) == (3, "small 1.0.0 against 3 targets: 3 differ, 1 not as it stands.")
    assert shown.json["next"] == "amphora compare small-1.0.0 grove-south"
    assert small("compare", "small", "grove-test", "grove-live").code == 1
    assert small("import", "small", "grove-test", "grove-live", "--yes").code == 0
    assert small("compare", "small", "grove-test", "grove-live", "--expect-same").code == 0
    assert small("compare", "small", "grove-live", "Weigh slip").code == 0
    assert small("compare", "small", "sites", "--docket", "d.yaml").code == 2
    assert small("compare", "small", "grove-live", "Weigh slip", "Growers").code == 2
    # Each has the same to say of both: said once, under the names of both.
    assert (
        small(
            "practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/body="ask ines@halcyon.example"'
        ).code
        == 0
    )
    assert small("export", "small").code == 0
    checked = small("check", "small", "grove-test", "grove-live")
    assert checked.out.count("address-in-text") == 1
    assert "grove-test, grove-live: Good to know" in checked.out or "grove-test, grove-live: " in checked.out
    alone = [one["target"] for one in small("check", "small", "grove-test", "grove-live", "--json").json["findings"]]
    assert {"grove-test", "grove-live"} <= set(alone)


def test_data_that_stays_in_its_region_goes_nowhere_else(amphora: Program, halcyon: Path) -> None:
    with (halcyon / "amphora.toml").open("a", encoding="utf-8") as file:
        file.write('[policies]\nstay = ["north"]\n')
    assert amphora("export", "grove-dev", "Press lines", "--as", "lines", "--with", "records").code == 0
    amphora("export", "grove-dev", "Press log", "--as", "logs", "--with", "records")
    amphora("map", "logs", "grove-south", "--accept", "--set", "mill-db-dev=mill-db-south")
    before = everything(halcyon, "grove-south")
    refused = amphora("import", "logs", "grove-south", "--yes", "--with", "records", "--json")
    assert refused.code == 3
    assert (
        "grove-south is in region south: data that stays elsewhere would go there."
        in refused.json["error"]["message"]
    )
    assert "table:mill/press-log: stays in north" in refused.json["error"]["details"]
    assert everything(halcyon, "grove-south") == before
    assert amphora("import", "logs", "grove-live", "--yes", "--with", "records").code == 0
    # Without its rows the table holds nothing that would have to stay.
    assert amphora("import", "logs", "grove-south", "--preview").code in (0, 3)
    assert "stays in north" not in amphora("import", "logs", "grove-south", "--preview").out
    text = (halcyon / "amphora.toml").read_text().replace('["north"]', '"north"')
    (halcyon / "amphora.toml").write_text(text)
    wrong = amphora("env", "list")
    assert (wrong.code, "stay = [regions" in wrong.err) == (2, True)


def test_a_value_is_set_for_several_targets_at_once(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Weighbridge feed", "--as", "feed")
    table = (halcyon / "crosswalk.yaml").read_text()
    wrong = amphora("map", "feed", "grove-test", "grove-live", "--set", "weighbridge-feed-every_minutes=often")
    assert (wrong.code, (halcyon / "crosswalk.yaml").read_text()) == (2, table)
    assert (
        amphora(
            "map", "feed", "grove-test", "grove-live", "--accept", "--set", "weighbridge-feed-every_minutes=5"
        ).code
        == 0
    )
    assert amphora("import", "feed", "grove-test", "grove-live", "--yes").code == 0


def test_an_undo_of_many_touches_nothing_while_one_can_not_be_reached(small: Program, halcyon: Path) -> None:
    assert small("import", "small", "grove-test", "grove-live", "--yes").code == 0
    after = everything(halcyon)
    # Whichever would come first: the other one is looked for as well.
    for name in ("grove-test.practice", "grove-live.practice"):
        (halcyon / name).rename(halcyon / "elsewhere")
        gone = small("undo", "many-1", "--yes")
        (halcyon / "elsewhere").rename(halcyon / name)
        assert (gone.code, everything(halcyon)) == (75, after)
    # Somebody takes a permission away: what is done by then is told, and the rest is named.
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as there:
        there.execute("update accounts set role = 'author' where address = 'keeper@halcyon.example'")
        there.commit()
    half = small("undo", "many-1", "--yes")
    assert half.code in (3, 6)
    assert small("undo", "many-1", "--only", "grove-live", "--yes").code == 3
    with closing(sqlite3.connect(halcyon / "grove-live.practice")) as there:
        there.execute("update accounts set role = 'keeper' where address = 'keeper@halcyon.example'")
        there.commit()
    assert small("undo", "many-1", "--yes").code == 0
    assert small("history", "many-1").verdict.startswith("many-1: small 1.0.0 into 2 targets, undone;")


@pytest.mark.parametrize(("goes_on", "begun"), [(False, ["a", "b"]), (True, ["a", "b", "c", "d"])])
def test_what_no_thread_has_taken_up_is_not_begun_once_one_is_bad(
    monkeypatch: pytest.MonkeyPatch, goes_on: bool, begun: list[str]
) -> None:
    tried: list[str] = []

    def apart(session: Any, part: Any, campaign: str) -> Any:
        tried.append(part.target)
        return SimpleNamespace(is_bad=part.target == "b", state="done")

    monkeypatch.setattr(rounds, "_apart", apart)
    monkeypatch.setattr(rounds, "MOST_AT_ONCE", 1)
    parts: Any = [SimpleNamespace(target=name, prepared=SimpleNamespace(docket=name)) for name in "abcd"]
    came = rounds._side_by_side(cast(Any, None), parts, "", goes_on)
    assert tried == begun
    assert [cast(Any, one).docket for one in came[len(begun) :]] == list("abcd")[len(begun) :]


def test_a_copy_of_an_environment_is_no_second_target(small: Program, halcyon: Path) -> None:
    shutil.copy(halcyon / "grove-test.practice", halcyon / "copy.practice")
    assert small("env", "add", "copy", "practice:copy.practice", "--role", "test").code == 0
    done = small("import", "small", "grove-test", "copy", "--yes")
    assert (done.code, "grove-test and copy say that they are one environment" in done.err) == (3, True), done.err
    assert small("map", "small", "copy", "--accept", "--set", "intake-desk=intake@test.halcyon.example").code == 0
    done = small("import", "small", "copy", "--yes")
    assert (done.code, "Beware" in done.err) == (0, False), done.err
    for name, words in (("copy", ""), ("grove-test", "grove-test and copy say that they are one environment")):
        assert words in small("env", "test", name).err
        assert ("Beware" in small("import", "small", name, "--preview").err) == bool(words)
    # The same place under another name is the same environment.
    assert small("env", "add", "again", "practice:copy.practice", "--role", "test").code == 0
    assert "Beware" not in small("import", "small", "again", "--preview").err
