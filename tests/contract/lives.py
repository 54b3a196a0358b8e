"""What becomes of an item on two platforms of one sort: it goes over, is changed at both ends, and comes back."""

from __future__ import annotations

import os
import random
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.conftest import Done, run_program
from tests.contract.answering import Said, served
from tests.contract.platforms import Platform, Refused, chosen, sheets
from tests.loaded import called

os.environ["DESK_WORD"] = "olives"
WAYS = ("500", "503", "refused", "done and 500")


class Life:
    """Two platforms, `one` with boards and sources, `two` with some of its own, and a workspace over both."""

    def __init__(self, folder: Path, seed: int, one: Platform, two: Platform) -> None:
        self.folder, self.one, self.two, self.choice = folder, one, two, one.choice
        self.chance = random.Random(seed * 13 + 5)
        self.sources = [self.one.add("source", f"S{number}", text=f"of {number}") for number in range(3)]
        self.boards = [self._board(number) for number in range(3)]
        for number, board in enumerate(self.boards):
            self.one.change("board", board, next=self.boards[(number + 1) % 3])
        if self.choice["lines"]:
            self._add_lines()
        self.two.add("source", "Other")
        self.two.add("board", "Else", text="kept")
        for name, text in sheets(self.choice).items():
            (folder / f"{name}.toml").write_text(text, "utf-8")
        self.run("init")
        signed = ["--user", "keeper", "--sign-in", "env:DESK_WORD"] if self.choice["signs"] else []
        for name, url in (("here", one.address), ("there", two.address)):
            self.run("env", "add", name, url, "--bridge", "any.toml", "--role", "test", *signed)
        self.before = self.two.told()
        self.rows = ["--with", "records"] if self.choice["lines"] else []

    def _board(self, number: int) -> Any:
        choice, sources = self.choice, self.sources
        board = self.one.add(
            "board",
            f"B{number}",
            text=f"board {number}",
            uses=sources[: number + 1],
            colours={sources[number]: "red"} if choice["colours"] else {},
            script=f"see <{self.one._written('source', sources[number])}>" if choice["script"] else "",
            tags=self.tags(1, "x", f"t{number}"),
            picture=("image/png", [number, 13, 10, 255, 0]) if choice["picture"] and number < 2 else None,
            owner=self.one.people[number % 2] if choice["owner"] else None,
            fields=self.fields(a=1, b=number),
        )
        one = self.one.held["board"][board]
        one |= {"on": bool(choice["switch"]) and number > 0, "shelf": f"top/{number % 2}" if choice["shelf"] else ""}
        one["pin"] = "ours" if choice["pin"] else ""
        return board

    def tags(self, size: int, *words: str) -> list[Any]:
        """Tags with these words, and of this size where they have any."""
        more = {"size": size} if self.choice["tags"] == "each" else {}
        return [{"no": n, "word": word, **more} for n, word in enumerate(words if self.choice["tags"] else ())]

    def fields(self, **sizes: int) -> list[Any]:
        """Fields of these sizes, with numbers that only this platform knows."""
        self.one.number += len(sizes)
        all_ = [
            {"no": self.one.number - n, "name": name, "size": size} for n, (name, size) in enumerate(sizes.items())
        ]
        return all_ if self.choice["fields"] else []

    def _add_lines(self) -> None:
        is_linked = self.choice["lines"] == "linked"
        # Of these one names one that comes later, and one that is gone.
        rows = ((1, None), (2, 1), (3, 5), (4, 99), (5, None))
        lines = [{"no": n, "kilos": n * 10, "of": of if is_linked else None} for n, of in rows]
        self.one.held["source"][self.sources[0]]["lines"] = lines
        if is_linked:
            self.one.change("source", self.sources[0], next=self.sources[0])

    def run(self, *words: str, code: int | None = 0) -> Done:
        """What a command says, after a look at its exit code."""
        done = run_program(self.folder, *words)
        assert code in (None, done.code), (self.choice, words, done.out, done.err)
        return done

    def is_there(self, wanted: dict[str, Any]) -> None:
        """The other platform holds just this."""
        there = self.two.told()
        off = {k: (there.get(k), wanted.get(k)) for k in {*there, *wanted} if there.get(k) != wanted.get(k)}
        assert not off, (self.choice, off)

    def export(self, *more: str) -> None:
        """Everything goes into a package, and its people are known over there."""
        self.run("export", "here", "*", "--as", "p", *self.rows)
        if self.choice["owner"]:
            self.run("map", "p", "there", *(f"--set={w} of one={w} of two" for w in ("Ada", "Ben")), "--accept")

    def as_promised(self) -> dict[str, Any]:
        """What has to be there when all has gone over."""
        return {**self.one.told(), **self.before}

    @contextmanager
    def broken(self, at: int, how: str, process: Path | None = None, of: str = "") -> Iterator[None]:
        """A platform of which one change, the `at`th at a path that ends with `of`, goes wrong in some way; a
        `process`, of which a file tells the number, dies with it."""
        answer, calls = self.two._answer, 0

        def answered(method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
            nonlocal calls
            if process and calls >= at:
                time.sleep(0.2)
            is_one = method != "GET" and path.endswith(of) and not path.endswith("/list")
            calls += is_one
            if not is_one or calls != at:
                return answer(method, path, said, body, headers)
            if how.startswith("done"):
                answer(method, path, said, body, headers)
            if process:
                os.kill(int(process.read_text(encoding="utf-8")), signal.SIGKILL)
            raise Refused(400 if how == "refused" else 503 if how == "503" else 500, "not now")

        self.two._answer = answered  # type: ignore[method-assign]
        yield
        self.two._answer = answer  # type: ignore[method-assign]

    def is_killed(self, at: int, how: str, *words: str, of: str = "") -> bool:
        """Whether a command was killed at this change."""
        process = self.folder / "process"
        with self.broken(at, how, process, of):
            code, *told = called(self.folder, list(words), dict(os.environ), pid_file=process)
        assert code <= 0, (self.choice, words, told)
        return code < 0


@contextmanager
def life(folder: Path, seed: int, **choice: Any) -> Iterator[Life]:
    """A life of platforms that are made by these choices."""
    one, two = Platform(chosen(seed) | choice, "one", 0), Platform(chosen(seed) | choice, "two", 700)
    with served(one) as one.address, served(two) as two.address:
        yield Life(folder, seed, one, two)
