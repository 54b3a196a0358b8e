"""A platform with one address for everything: what is asked stands in the body, who asks too, and a refusal is answered
like anything else. Secrets are never shown, parts have ids that only an answer tells, and states are words."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Done, run_program
from tests.contract.answering import Said, pair, served, sheets_of, written
from tests.loaded import called

LINES = [{"name": "warm", "kind": "plain", "value": "12"}, {"name": "key", "kind": "secret", "value": "s3sam"}]


class Desk:
    """Everything by one call. A session is over after some of them."""

    def __init__(self, first: int, is_lenient: bool = False) -> None:
        self.number, self.left, self.asked, self.is_lenient = first, 0, list[str](), is_lenient
        self.held: dict[str, dict[str, dict[str, Any]]] = {"hall": {}, "watch": {}}

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        assert (method, path) == ("POST", "/ask"), path
        assert "Authorization" not in headers
        given = body["with"]
        if body["do"] == "enter":
            assert given == ["keeper", "w0rd"]
            self.left = 9
            return 200, {"gives": f"session-{self._next()}"}, {}
        self.left -= 1
        assert body["who"].startswith("session-")
        if self.left < 0:
            return 200, self._fault(7, "who is that?"), {}
        self.asked.append(body["do"])
        kind, _, do = body["do"].partition(".")
        return 200, getattr(self, f"_{do}")(kind, given), {}

    @contextmanager
    def killing(self, process: Path) -> Iterator[None]:
        """The program dies as soon as it has made a watch."""
        make = self._make

        def made(kind: str, given: Any) -> Any:
            answer = make(kind, given)
            if kind == "watch":
                os.kill(int(process.read_text("utf-8")), signal.SIGKILL)
            return answer

        self._make = made  # type: ignore[method-assign]
        yield
        self._make = make  # type: ignore[method-assign]

    def _next(self) -> str:
        self.number += 1
        return str(self.number)

    def _fault(self, number: int, says: str) -> Any:
        return {"fault": {"no": number, "says": says}}

    def _list(self, kind: str, given: Any) -> Any:
        rows = [one for one in self.held[kind].values() if given.get("no", one["no"]) == one["no"]]
        rows = rows[int(given.get("from", 0)) :][: given.get("most", 99)]
        hidden = {"lines": [_shown(line) for line in rows[0]["lines"]]} if rows and kind == "watch" else {}
        return {"gives": [{**one, **hidden} for one in rows]}

    def _make(self, kind: str, given: Any) -> Any:
        mine = [one for one in self.held[kind].values() if one["called"] == given["called"]]
        if mine and kind == "hall":
            return self._fault(2, f"{given['called']} is taken")
        if fault := self._odd(kind, given, ()):
            return fault
        # A second watch of one name in one hall is the first one, written over.
        number = next((one["no"] for one in mine if one["hall"] == given["hall"]), None) or self._next()
        self.held[kind][number] = {"state": "awake", **given, "no": number}
        self._number_lines(number if kind == "watch" else "")
        return {"gives": int(number)}

    def _write(self, kind: str, given: Any) -> Any:
        one = self.held[kind][given["no"]]
        there = {line["no"] for line in one.get("lines", [])}
        if fault := self._odd(kind, given, there):
            return fault
        was = {line["no"]: line for line in one.get("lines", [])}
        if "lines" in given:
            given = {**given, "lines": [{**was.get(line.get("no"), {}), **line} for line in given["lines"]]}
        self.held[kind][given["no"]] = {**one, **given}
        self._number_lines(given["no"] if kind == "watch" else "")
        return {"gives": True}

    def _odd(self, kind: str, given: Any, there: Any) -> Any:
        for line in given.get("lines", []) or []:
            if "note" in line and not line["note"]:
                return self._fault(3, "a note is empty")
            if line.get("no") not in there and ("no" in line or "value" not in line) and not self.is_lenient:
                return self._fault(4, f"of {line['name']} a value is missing")
        return None

    def _number_lines(self, number: str) -> None:
        for line in self.held["watch"][number]["lines"] if number else ():
            line.setdefault("no", self._next())
            line.setdefault("note", "")

    def _drop(self, kind: str, given: Any) -> Any:
        del self.held[kind][given[0]]
        return {"gives": given}

    def values(self) -> dict[str, Any]:
        return {line["name"]: line.get("value") for one in self.held["watch"].values() for line in one["lines"]}


def _shown(line: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in line.items() if line["kind"] != "secret" or name != "value"}


SHEETS = sheets_of("desk")
KEEPER = ("--user", "keeper", "--sign-in", "env:DESK_WORD")


def _filled(desk: Desk) -> None:
    for name in ("Yard", "Press", "Store"):
        desk._make("hall", {"called": name})
    hall = next(one["no"] for one in desk.held["hall"].values() if one["called"] == "Press")
    lines = [dict(line) for line in LINES]
    desk._make("watch", {"called": "Heat", "hall": hall, "every": "10m", "lines": lines})


@contextmanager
def lenient(folder: Path, monkeypatch: Any) -> Iterator[tuple[Callable[..., Done], Desk]]:
    """What runs the program over two of them, and the second one, which makes things without their secrets; a watch is
    in a package."""
    one, two = Desk(100), Desk(900, is_lenient=True)
    _filled(one)
    monkeypatch.setenv("DESK_WORD", "w0rd")
    with pair(folder, SHEETS, one, two, *KEEPER) as run:
        run("export", "here", "Heat", "--as", "p")
        yield run, two


def test_one_address_for_everything_serves_as_any_other_platform(tmp_path: Path, monkeypatch: Any) -> None:
    one, two = Desk(100), Desk(900)
    _filled(one)
    for name in ("Old", "Older"):
        two._make("hall", {"called": name})
    monkeypatch.setenv("DESK_WORD", "w0rd")
    with pair(tmp_path, SHEETS, one, two, *KEEPER) as run:
        done = run("export", "here", "Heat", "--as", "p")
        assert "secret Heat-lines-key" in done.out
        # What the platform can't do without is told in its own words, and nothing stays.
        done = run("import", "p", "there", "--yes", code=4)
        assert "of key a value is missing" in done.err
        assert "there is as it was before" in done.err
        assert len(two.held["hall"]) == 2
        monkeypatch.setenv("HEAT_KEY", "0ther")
        run("map", "p", "there", "--set", "secret:Heat-lines-key=env:HEAT_KEY")
        run("import", "p", "there", "--yes")
        [heat] = two.held["watch"].values()
        assert two.held["hall"][heat["hall"]]["called"] == "Press"
        assert (two.values(), heat["state"]) == ({"warm": "12", "key": "0ther"}, "awake")
        # Changed on both sides: ids of lines stay, the secret too, and what was mended there.
        next(iter(one.held["watch"].values()))["every"] = "5m"
        heat["lines"][0]["value"] = "14"
        numbers = [line["no"] for line in heat["lines"]]
        run("export", "here", "Heat", "--as", "p")
        run("compare", "p", "there", "--docket", "d.yaml", code=1)
        run("import", "d.yaml", "there", "--yes")
        [heat] = two.held["watch"].values()
        assert ([line["no"] for line in heat["lines"]], heat["every"]) == (numbers, "5m")
        assert two.values() == {"warm": "14", "key": "0ther"}
        run("verify", "p", "there")
        assert "is as it was before" in run("undo", "last", "--yes").out
        # Many sessions by now: each was renewed when it was over.
        assert two.number > 930


def test_what_is_there_already_is_not_made_once_more(tmp_path: Path, monkeypatch: Any) -> None:
    desk = Desk(100)
    _filled(desk)
    # Without the secret, for that is nobody's to copy, and here nothing is made without it.
    next(iter(desk.held["watch"].values()))["lines"].pop()
    monkeypatch.setenv("DESK_WORD", "w0rd")
    with served(desk) as url:
        run_program(tmp_path, "init")
        words = ("--bridge", written(tmp_path, SHEETS), "--role", "test", *KEEPER)
        assert run_program(tmp_path, "env", "add", "t", url, *words).code == 0
        done = run_program(tmp_path, "env", "prove", "t", "--yes", "--json")
        told = {(one["kind"], one["name"]): one for one in done.json["promises"]}
        second = told["watch", "two items of one name"]
        assert (second["kept"], "with the watch that is there." in second["words"]) == ("holds", True), second
        # Looked for before, so that nothing was written over: one was made, one that is changed while it is on, one that
        # uses a hall, one that lets go of a line, and the first again.
        assert desk.asked.count("watch.make") == 5
        assert done.code == 0, done.out


def test_states_that_nobody_explains_are_told_and_not_guessed(tmp_path: Path, monkeypatch: Any) -> None:
    desk = Desk(100)
    _filled(desk)
    monkeypatch.setenv("DESK_WORD", "w0rd")
    sheets = SHEETS | {"desk": SHEETS["desk"].replace('{ at = "$.state", is = ["awake"] }', '"$.state"')}
    with served(desk) as url:
        run_program(tmp_path, "init")
        words = ("--bridge", written(tmp_path, sheets), "--role", "test", *KEEPER)
        assert run_program(tmp_path, "env", "add", "t", url, *words).code == 0
        done = run_program(tmp_path, "survey", "t")
        assert (done.code, done.out) == (4, "")
        assert "at $.state stands 'awake', and no `is` of `on` says what that means" in done.err


def test_a_secret_that_nobody_is_shown_is_a_task_until_it_is_entered(tmp_path: Path, monkeypatch: Any) -> None:
    with lenient(tmp_path, monkeypatch) as (run, two):
        assert "Enter secret Heat-lines-key in Heat" in run("import", "p", "there", "--yes").out
        # Nothing shows that it is missing, and nobody says that it is there.
        assert "Enter secret Heat-lines-key in Heat" in run("aftercare", "there", code=1).out
        assert two.values() == {"warm": "12", "key": None}
        monkeypatch.setenv("HEAT_KEY", "0ther")
        run("map", "p", "there", "--set", "secret:Heat-lines-key=env:HEAT_KEY")
        done = run("aftercare", "there", "--do")
        assert "the platform shows nobody whether it is there\n- Enter secret" in done.out
        assert "seen there" not in done.out
        assert two.values() == {"warm": "12", "key": "0ther"}
        assert "Enter secret" not in run("aftercare", "there").out
        # Made again it lacks what nobody kept, although it looks as it did.
        run("withdraw", "p", "there", "--retire-all")
        done = run("undo", "last", "--yes", code=1)
        assert "'Heat' is not as it was: it lacks its secret, which nobody kept" in done.out
        assert "Enter secret Heat-lines-key in Heat" in run("aftercare", "there", code=1).out


@pytest.mark.parametrize("after", ["resume", "undo"])
def test_a_creation_that_was_killed_is_known_although_its_secret_is_shown_to_nobody(
    tmp_path: Path, monkeypatch: Any, after: str
) -> None:
    with lenient(tmp_path, monkeypatch) as (run, two):
        with two.killing(tmp_path / "process"):
            words = ["import", "p", "there", "--yes"]
            assert called(tmp_path, words, dict(os.environ), pid_file=tmp_path / "process")[0] < 0
        assert two.values() == {"warm": "12", "key": None}
        if after == "undo":
            assert "there is as it was before" in run("undo", "last", "--yes").out
            assert not two.held["watch"]
        else:
            assert "Enter secret Heat-lines-key in Heat" in run("resume").out
