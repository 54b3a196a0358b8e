"""Whatever a platform is like, as long as its sheet says so: what goes over means the same there, and comes back."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run_program
from tests.contract.answering import served
from tests.contract.platforms import Platform, chosen, sheets

SEEDS = range(200) if os.environ.get("AMPHORA_TESTS") == "whole" else (0, 59, 98, 24, 3, 7)
"""Without the whole, those among which each choice is made at least once."""


def _filled(platform: Platform) -> tuple[list[Any], list[Any]]:
    choice = platform.choice
    sources = [platform.add("source", f"S{number}", text=f"of {number}") for number in range(3)]
    boards = [
        platform.add(
            "board",
            f"B{number}",
            text=f"board {number}",
            uses=sources[: number + 1],
            colours={sources[number]: "red"} if choice["colours"] else {},
            script=f"see <{platform._written('source', sources[number])}>" if choice["script"] else "",
            tags=[{"no": 1, "word": "x"}, {"no": 2, "word": f"t{number}"}] if choice["tags"] else [],
        )
        for number in range(3)
    ]
    for number, board in enumerate(boards):
        platform.change("board", board, next=boards[(number + 1) % 3])
        platform.held["board"][board]["on"] = bool(choice["switch"]) and number > 0
    return boards, sources


@pytest.mark.parametrize("seed", SEEDS)
def test_what_goes_over_means_the_same_there_and_comes_back(tmp_path: Path, seed: int) -> None:
    choice = chosen(seed)
    one, two = Platform(choice, "one", 0), Platform(choice, "two", 700)
    for name, text in sheets(choice).items():
        (tmp_path / f"{name}.toml").write_text(text, "utf-8")

    def run(*words: str, code: int = 0) -> str:
        done = run_program(tmp_path, *words)
        assert done.code == code, (choice, words, done.out, done.err)
        return done.out

    with served(one) as here, served(two) as there:
        one.address, two.address = here, there
        boards, sources = _filled(one)
        two.add("source", "Other")
        two.add("board", "Else", text="kept")
        run("init")
        for name, url in (("here", here), ("there", there)):
            run("env", "add", name, url, "--bridge", "any.toml", "--role", "test")
        before = two.told()
        # The proof leaves nothing behind, and finds nothing that the sheet doesn't say.
        at_home = one.told()
        run("env", "prove", "here", "--yes")
        assert one.told() == at_home, choice
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == {**at_home, **before}, choice
        run("verify", "p", "there")
        assert "Nothing to do" in run("import", "p", "there", "--yes")
        then = two.told()
        one.change("board", boards[0], text="another", uses=[sources[2], sources[0]])
        new = one.add("source", "S9", text="new")
        one.change("board", boards[1], uses=[new], next=boards[1])
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == {**one.told(), **before}, choice
        assert "is as it was before" in run("undo", "last", "--yes"), choice
        assert two.told() == then, choice
        run("undo", "there-1", "--yes")
        assert two.told() == before, choice
