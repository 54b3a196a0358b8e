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
