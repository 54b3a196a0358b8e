"""One import into many targets: all pass the gate before any is touched; what is done stays, what failed is put back,
what has not begun waits."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from amphora.core.values.errors import UsageFault
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
    stopped = small("import", "small", "sites", "--yes", "--json")
    assert stopped.code == 6
    assert states(stopped.json) == [
        ("grove-test", "done"),
        ("grove-live", "put back"),
        ("grove-south", "not begun"),
    ]
    assert stopped.json["next"] == "amphora import small-1.0.0 grove-live grove-south --yes"
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
    assert small("verify", "small", "grove-south").code == 0
    # Each target has a run of its own, which can be undone by itself.
    assert small("undo", done.json["targets"][1]["run"], "--yes").code == 0
    assert everything(halcyon) == before


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
    assert found.json["verdict"] == "1 of 3 targets are not as promised: grove-live."
    assert found.json["next"] == "amphora compare small grove-live"
    assert [len([item for item in one["items"] if item["as_promised"]]) for one in found.json["targets"]] == [2, 1, 2]
    assert small("export", "grove-dev", "Weighbridge feed", "--as", "feed").code == 0
    given = ("--accept", "--set", "weighbridge-feed-every_minutes=5")
    for name in ("grove-test", "grove-live"):
        small("map", "feed", name, *given)
    done = small("import", "feed", "grove-test", "grove-live", "--yes")
    assert done.code == 0, done.err
    assert "grove-live: still to do by hand" in done.out
    assert done.out.count("Enter secret weighbridge-feed-access-key") == 2
