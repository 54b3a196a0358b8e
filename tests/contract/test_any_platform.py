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
    if choice["lines"]:
        platform.held["source"][sources[0]]["lines"] = [
            {"no": n, "kilos": n * 10, "of": of if choice["lines"] == "linked" else None}
            for n, of in ((1, None), (2, 1), (3, 5), (4, 99), (5, None))
        ]
    if choice["lines"] == "linked":
        platform.change("source", sources[0], next=sources[0])
    boards = [
        platform.add(
            "board",
            f"B{number}",
            text=f"board {number}",
            uses=sources[: number + 1],
            colours={sources[number]: "red"} if choice["colours"] else {},
            script=f"see <{platform._written('source', sources[number])}>" if choice["script"] else "",
            tags=[{"no": 1, "word": "x"}, {"no": 2, "word": f"t{number}"}] if choice["tags"] else [],
            picture=("image/png", [number, 13, 10, 255, 0]) if choice["picture"] and number < 2 else None,
            owner=platform.people[number % 2] if choice["owner"] else None,
        )
        for number in range(3)
    ]
    for number, board in enumerate(boards):
        platform.change("board", board, next=boards[(number + 1) % 3])
        one = platform.held["board"][board]
        one |= {"on": bool(choice["switch"]) and number > 0, "shelf": f"top/{number % 2}" if choice["shelf"] else ""}
        one["pin"] = "ours" if choice["pin"] else ""
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
        more = ["--with", "records"] if choice["lines"] else []
        # The proof leaves nothing behind, and finds nothing that the sheet doesn't say.
        at_home = one.told()
        run("env", "prove", "here", "--yes")
        assert one.told() == at_home, choice
        run("export", "here", "*", "--as", "p", *more)
        if choice["owner"]:
            run("map", "p", "there", *(f"--set={who} of one={who} of two" for who in ("Ada", "Ben")), "--accept")
        run("import", "p", "there", "--yes", *more)
        assert two.told() == {**at_home, **before}, (choice, two.told(), {**at_home, **before})
        run("verify", "p", "there")
        run("edits", "there")
        assert "Nothing to do" in run("import", "p", "there", "--yes")
        for board in two.held["board"].values():
            board["pin"] = "theirs"
        then = two.told()
        one.change("board", boards[0], text="another", uses=[sources[2], sources[0]])
        new = one.add("source", "S9", text="new")
        one.change("board", boards[1], uses=[new], next=boards[1], picture=None)
        if choice["picture"]:
            one.change("board", boards[2], picture=("image/gif", [71, 73, 70]))
        run("export", "here", "*", "--as", "p", *more)
        run("import", "p", "there", "--yes")
        assert two.told() == {**one.told(), **before}, (choice, two.told(), {**one.told(), **before})
        assert "is as it was before" in run("undo", "last", "--yes"), choice
        assert two.told() == then, (choice, two.told(), then)
        # Nobody has sent what a secret is covered with; what somebody has entered is theirs.
        assert {board["pin"] for board in two.held["board"].values()} == {"theirs"}, choice
        for board in two.held["board"].values():
            board["pin"] = ""
        run("undo", "there-1", "--yes")
        assert two.told() == before, (choice, two.told(), before)
