"""Items that arrive under another title, in another folder, or not at all: as said, remembered for the next version, and
never taken for somebody's change."""

from __future__ import annotations

import shlex
from pathlib import Path

import pytest

from amphora.core.plan.arrivals import Arrival, arranged, joined, moved_folders
from amphora.core.values.model import Contents, Item, States
from tests.conftest import Program
from tests.program.test_pauses import everything

SAID = ("--title", "Weigh slip=Weigh slip (north)", "--folder", "intake=north/intake")


def placed(halcyon: Path) -> dict[str, tuple[str, str]]:
    return {row[2]: (row[3], row[1]) for row in everything(halcyon)}


@pytest.fixture
def small(amphora: Program) -> Program:
    assert amphora("export", "grove-dev", "Weigh slip", "Olive varieties", "--as", "small").code == 0
    return amphora


def test_titles_and_folders_are_as_said_and_remembered(small: Program, halcyon: Path) -> None:
    before = everything(halcyon)
    shown = small("import", "small", "grove-live", "--preview", *SAID)
    assert "- in the folder north/intake: Olive varieties\n- as 'Weigh slip (north)':" in shown.out
    assert '--title "Weigh slip=Weigh slip (north)" --folder intake=north/intake' in shown.out.splitlines()[-1]
    done = small("import", "small", "grove-live", "--yes", *SAID)
    assert "all 2 items verified" in done.verdict
    assert placed(halcyon)["weigh-slip"] == ("Weigh slip (north)", "office")
    assert placed(halcyon)["olive-varieties"] == ("Olive varieties", "north/intake")
    # The key stays, and says where it was.
    assert "Olive varieties (now in north/intake)" in small("survey", "grove-live").out
    # Not asked again, and no change of anybody's.
    assert small("import", "small", "grove-live", "--yes").verdict.startswith("Nothing to do")
    assert small("edits", "grove-live").code == 0
    small(
        "practice", "edit", "grove-dev.practice", "Weigh slip", "--set", "title=Weigh note", "--set", '/subject="T"'
    )
    small("export", "small")
    again = small("import", "small", "grove-live", "--yes", "--json")
    assert (again.json["created"], again.json["updated"]) == (0, 1)
    assert placed(halcyon)["weigh-slip"] == ("Weigh slip (north)", "office")
    # In another environment nothing was said.
    assert small("import", "small", "grove-test", "--yes").code == 0
    # Said again, and taken back.
    assert small("import", "small", "grove-live", "--yes", "--title", "Weigh note=").code == 0
    assert placed(halcyon)["weigh-slip"] == ("Weigh note", "office")
    assert small("import", "small", "grove-live", "--yes").verdict.startswith("Nothing to do")
    for _ in range(3):
        assert small("undo", "last", "--yes").code in (0, 3)
    while small("undo", "last", "--yes").code == 0:
        pass
    assert everything(halcyon) == before
    # What was said in a run that is undone is forgotten with it.
    assert small("import", "small", "grove-live", "--yes").code == 0
    assert placed(halcyon)["weigh-slip"][0] == "Weigh note"


def test_a_docket_says_how_items_arrive(small: Program, halcyon: Path) -> None:
    path = halcyon / "d.yaml"
    small("compare", "small", "grove-live", "--docket", "d.yaml", *SAID)
    text = path.read_text()
    assert "Weigh slip (north)" in text
    path.write_text(text.replace("Weigh slip (north)", "Weigh slip (east)"))
    assert small("import", "d.yaml", "--yes").code == 0
    assert placed(halcyon)["weigh-slip"] == ("Weigh slip (east)", "office")
    for old, new, words in (
        ("title: Weigh", "titel: Weigh", "neither title nor folder"),
        ("title: Weigh slip (north)", "title: 3", "has to be text"),
    ):
        path.write_text(text.replace(old, new))
        refused = small("import", "d.yaml", "--yes")
        assert refused.code == 2, refused.out
        assert words in refused.err


def test_what_is_left_out_has_to_be_there(small: Program, halcyon: Path) -> None:
    done = small("import", "small", "grove-live", "--yes", "--leave", "Weigh slip")
    assert done.code == 0, done.err
    assert "weigh-slip" not in placed(halcyon)
    for wrong, words in (
        (("--title", "Nobody=X"), "Nobody"),
        (("--title", "Weigh slip"), "is not ITEM=TITLE"),
        (("--title", "*=X"), "can mean 2 items"),
        (("--folder", "nowhere=x"), "No item of small 1.0.0 is in 'nowhere'"),
        (("--title", "Weigh slip=A", "--title", "Weigh slip=B"), "Two titles are said for"),
        (("--leave", "Weigh*", "--bring", "Weigh slip"), "can't be left out and brought at once"),
    ):
        for refused in (
            small("import", "small", "grove-live", "--yes", *wrong),
            small("compare", "small", "grove-live", *wrong),
        ):
            assert refused.code == 2
            assert words in refused.err


def test_what_is_said_on_arrival_is_compared_as_it_is_imported(amphora: Program) -> None:
    amphora("export", "grove-dev", "Olive varieties", "Weigh ticket", "--as", "small")
    said = ("--leave", "Weigh slip", "--title", "Olive varieties=Sorts")
    shown = amphora("compare", "small", "grove-test", "grove-live", *said, "--json")
    assert shown.code == 3
    for one in shown.json["targets"]:
        # Check by itself finds nothing: the way out is to choose otherwise.
        assert [reason["next"] for reason in one["in_the_way"]] == [
            f"Choose otherwise, or see to it in {one['target']}: amphora compare small-1.0.0 {one['target']}"
            ' --title "Olive varieties=Sorts" --leave "Weigh slip"'
        ]
        assert one["on_arrival"]["value-list:intake/olive-varieties"] == {"title": "Sorts", "folder": None}
    preview = amphora("import", "small", "grove-test", "grove-live", "--preview", "--title", "Olive varieties=Sorts")
    line = 'Next: amphora import small-1.0.0 grove-test grove-live --title "Olive varieties=Sorts"'
    assert (preview.code, preview.out.splitlines()[-1]) == (0, line)


def test_folders_are_moved_with_all_below_them() -> None:
    folders = ("mill", "mill/quality", "millers", "")
    items = {f"flow:{n}": Item(f"flow:{n}", 1, {}, States(f"F{n}", folder)) for n, folder in enumerate(folders)}
    contents = Contents("p", "1.0.0", "dev", "d", items, ())

    def moved(*moves: tuple[str, str]) -> list[str]:
        arrivals = moved_folders(contents, moves)
        return [item.states.folder for item in arranged(contents, arrivals).items.values()]

    assert moved(("mill", "north/mill")) == ["north/mill", "north/mill/quality", "millers", ""]
    assert moved(("mill/quality", "q"), ("mill", "m")) == ["m", "q", "millers", ""]
    assert moved(("", "north")) == ["north/mill", "north/mill/quality", "north/millers", "north"]
    assert arranged(contents, {}) is contents
    assert joined({"a": Arrival("x", "f")}, {"a": Arrival(title="")}) == {"a": Arrival(None, "f")}
    assert joined({"a": Arrival("x")}, {"a": Arrival(title="")}) == {}
    assert joined({"a": Arrival("x")}, {}) == {"a": Arrival("x")}


def test_what_was_left_out_stays_out_until_it_is_brought(small: Program, halcyon: Path) -> None:
    before = everything(halcyon)
    first = small("import", "small", "grove-live", "--yes", "--leave", "Olive varieties", "--json")
    assert first.json["created"] == 1
    small("practice", "edit", "grove-dev.practice", "Weigh slip", "--set", '/subject="T"')
    small("export", "small")
    shown = small("compare", "small", "grove-live")
    assert "1 changed" in shown.verdict
    assert "0 new" in shown.verdict
    assert "Left out of this import\n- value-list:intake/olive-varieties" in shown.out
    assert small("import", "small", "grove-live", "--yes").code == 0
    assert "olive-varieties" not in placed(halcyon)
    # In another environment nobody said so.
    assert small("import", "small", "grove-test", "--yes", "--json").json["created"] == 2
    assert small("import", "small", "grove-live", "--yes").verdict.startswith("Nothing to do")
    brought = small("import", "small", "grove-live", "--yes", "--bring", "Olive varieties", "--json")
    assert (brought.json["created"], "olive-varieties" in placed(halcyon)) == (1, True)
    assert small("import", "small", "grove-live", "--yes").verdict.startswith("Nothing to do")
    # With the run in which it was said that is forgotten, too.
    for _ in range(3):
        last = next(
            r
            for r in small("history", "--json").json["runs"]
            if r["environment"] == "grove-live" and r["state"] in ("done", "complete") and r["kind"] == "import"
        )
        assert small("undo", last["name"], "--yes").code == 0
    assert everything(halcyon) == before
    assert small("import", "small", "grove-live", "--yes", "--json").json["created"] == 2


def test_whoever_has_to_ask_again_asks_for_the_same(small: Program) -> None:
    # Only a docket holds with what it was compared.
    shown = small("compare", "small", "grove-live", "--since", "small-1.0.0").out
    assert "Next: amphora compare small-1.0.0 grove-live --since small-1.0.0 --docket " in shown
    asked = [*SAID, "--custody", "target", "--if-it-fails", "keep", "--why", "change 7", "--no-pause"]
    ways = (["grove-live"], ["grove-test", "grove-live", "--rounds", "all", "--go-on"])
    for way in ways:
        for more in ([], ["--preview"]):
            done = small("import", "small", *way, *asked, *more)
            [again] = [line for line in (done.out + done.err).splitlines() if line.startswith("Next: amphora import")]
            words = shlex.split(again.removeprefix("Next: amphora "))
            assert sorted({*words, "--yes"} - {"small-1.0.0", "small"}) == sorted({"import", *way, *asked, "--yes"})
    assert small(*words, "--yes").code == 0
    others = (
        ("withdraw", "small", "grove-live", "--let-go", "letter-template:office/weigh-slip"),
        ("carry", "Olive", "grove-dev", "grove-test", "--as", "o", "--why", "change 8", "--edits", "keep"),
        ("export", "grove-dev", "Olive", "--as", "o", "--note", "for 8", "--afterwards", "Tell them"),
    )
    for other in others:
        last = small(*other, *(["--preview"] if other[0] == "export" else [])).out.splitlines()[-1]
        assert set(other) - {"Olive"} <= set(shlex.split(last.removeprefix("Next: amphora "))), last
    assert "target's" in small("deliveries", "grove-live", "letter-template:office/weigh-slip").out


def test_a_package_from_elsewhere_goes_on_being_named_by_where_it_lies(small: Program, halcyon: Path) -> None:
    small("to-folder", "small", "small")
    letter = next((halcyon / "small").rglob("weigh-slip.json"))
    letter.write_text(letter.read_text("utf-8").replace("Dear grower", "Dear members"), "utf-8")
    small("export", "grove-dev", "Quality classes", "--as", "q", "--out", "../q.amphora")
    for place in ("./small", "../q.amphora"):
        path = str((halcyon / place).resolve())
        for words in (
            ("check",),
            ("map",),
            ("compare",),
            ("import",),
            ("import", "--preview"),
            ("import", "--copy", "b"),
        ):
            done = small(words[0], place, "grove-live", *words[1:])
            [last] = [shlex.split(line) for line in (done.out + done.err).splitlines() if line[:5] == "Next:"]
            assert last[3] == path, (words, last)
            assert last[5:7] == ["--copy", "b"] or "--copy" not in words
        assert small("import", path, "grove-live", "--yes").code == 0
    assert any("Dear members" in str(row) for row in everything(halcyon))
    # Both are there, and the folder is what is meant.
    assert small("from-folder", "small", "--out", "mine.amphora").verdict.startswith("Packed small 1.0.0")
    assert small("from-folder", "nix").err.startswith("There is no folder 'nix'.")
