"""A platform whose items are held by others: pages by apps, notes by pages, each listed for what holds it, and each asked
for by a path that says so."""

from __future__ import annotations

import re
from collections import defaultdict
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pytest

from tests.contract.answering import Plain, Said, pair, sheets_of


class Apps:
    """Apps that hold pages that hold notes."""

    def __init__(self, name: str, first: int) -> None:
        self.name, self.number = name, first
        self.held: dict[str, dict[int, dict[str, Any]]] = {"apps": {}, "pages": {}, "notes": {}}

    def add(self, kind: str, above: int = 0, **members: Any) -> int:
        self.number += 1
        self.held[kind][self.number] = {"id": self.number, **members, "above": above}
        return self.number

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/about":
            return 200, {"uid": self.name}, {}
        steps = re.findall(r"/(apps|pages|notes)(?:/(\d+))?", path)
        above = 0
        for kind, number in steps[:-1]:
            one = self.held[kind].get(int(number or 0))
            # A path through something else is a mistake of whoever asks.
            if one is None or one["above"] != above:
                return 404, {}, {}
            above = one["id"]
        kind, number = steps[-1]
        if not number and method == "POST":
            assert set(body) <= {"name", "text", "start"}, body
            return 201, self._shown(self.held[kind][self.add(kind, above, **body)]), {}
        if not number:
            rows = [self._shown(one) for one in self.held[kind].values() if one["above"] == above]
            return 200, rows[int(said.get("from", 0)) :][:2], {}
        one = self.held[kind].get(int(number))
        if one is None or one["above"] != above:
            return 404, {}, {}
        if method == "DELETE":
            del self.held[kind][one["id"]]
            self._forget(one["id"])
        elif method == "PUT":
            left: dict[str, Any] = {
                name: {"text": "", "start": None}[name] for name in ("text", "start") if name in one
            }
            one |= {**left, **body}
        return 200, self._shown(one), {}

    def _forget(self, above: int) -> None:
        for held in self.held.values():
            for number in [number for number, one in held.items() if one["above"] == above]:
                del held[number]
                self._forget(number)

    def _shown(self, one: dict[str, Any]) -> dict[str, Any]:
        return {name: value for name, value in one.items() if name != "above"}

    def tree(self) -> list[str]:
        """Everything by its path, with its text."""
        every = {**self.held["apps"], **self.held["pages"], **self.held["notes"]}

        def path(one: dict[str, Any]) -> str:
            return f"{path(every[one['above']])}/{one['name']}" if one["above"] else one["name"]

        return sorted(f"{path(one)}: {one.get('text', '')}" for one in every.values())


def test_items_inside_of_others_go_over_with_these(tmp_path: Path) -> None:
    one, two = Apps("one", 0), Apps("two", 70)
    for name in ("Intake", "Press"):
        app = one.add("apps", name=name, start=None)
        first = one.add("pages", app, name="Start", text=f"of {name}")
        one.held["apps"][app]["start"] = first
        for number in range(3):
            one.add("notes", first, name=f"N{number}", text=name)
    other = two.add("apps", name="Other", start=None)
    two.add("pages", other, name="Start", text="kept")
    with pair(tmp_path, sheets_of("apps"), one, two) as run:
        assert "page:Press/Start" in run("survey", "here").out
        run("env", "prove", "here", "--yes")
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.tree() == sorted([*one.tree(), "Other: ", "Other/Start: kept"])
        run("verify", "p", "there")
        assert "Nothing to do" in run("import", "p", "there", "--yes").out
        # A page of one app changes, and a new note of the other; then all of it is taken back.
        before = two.tree()
        next(page for page in one.held["pages"].values() if page["text"] == "of Press")["text"] = "newer"
        one.add("notes", next(iter(one.held["pages"])), name="N9", text="late")
        run("export", "here", "*", "--as", "p")
        assert "1 created, 1 updated" in run("import", "p", "there", "--yes").out
        assert two.tree() == sorted([*one.tree(), "Other: ", "Other/Start: kept"])
        run("undo", "last", "--yes")
        assert two.tree() == before
        run("undo", "there-1", "--yes")
        assert two.tree() == ["Other/Start: kept", "Other: "]


class Boards(Plain):
    """Boards whose cards are numbered from 1 in each of them, and name those of their own board by number."""

    empties = True

    def __init__(self, name: str, first: int) -> None:
        super().__init__(name, first - 1)
        self.boards = self.held["boards"]
        self.cards: dict[int, dict[int, dict[str, Any]]] = defaultdict(dict)

    def board(self, name: str, *cards: str) -> int:
        number = int(self.add("boards", name=name, size=1)["id"])
        for card in cards:
            self.card(number, name=card, text=card, after=[], also=None, path=None)
        return number

    def card(self, board: int, **members: Any) -> dict[str, Any]:
        number = max(self.cards[board], default=0) + 1
        self.cards[board][number] = {**members, "id": number}
        return self.cards[board][number]

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        held = self.cards[one["id"]]
        if not steps[1:]:
            return (201, self.card(one["id"], **body), {}) if method == "POST" else (200, list(held.values()), {})
        number = int(steps[1])
        if number not in held:
            return 404, {}, {}
        if method == "PUT":
            held[number] = {**body, "id": number}
        return 200, held.pop(number) if method == "DELETE" else held[number], {}

    def told(self) -> dict[tuple[str, str], list[Any]]:
        return {
            (board["name"], card["name"]): [card["text"], card["after"], card["also"], card["path"]]
            for number, board in self.boards.items()
            for card in self.cards[number].values()
        }


def test_numbers_that_mean_something_only_in_what_holds_them(tmp_path: Path) -> None:
    one, two = Boards("one", 1), Boards("two", 71)
    for where in (one, two):
        # Card 1 of the one board, 2 of the other: the same item has another number there.
        mill = where.board("Mill", *(["Own"] if where is two else []), "Sluice", "Wheel")
        first = len(where.cards[mill]) - 1
        where.cards[mill][first + 1] |= {"after": [first], "text": f"see #{first}, and #77"}
        if where is one:
            press = where.board("Press", "Fill", "Crush")
            where.cards[press][2] |= {"after": [1], "text": "after #1", "also": {"board": mill, "card": 2}} | {
                "path": f"/{mill}/1"
            }
    with pair(tmp_path, sheets_of("boards"), one, two) as run:
        before = two.told()
        assert "card:Mill/Sluice" in run("survey", "here").out
        run("env", "prove", "here", "--yes")
        run("export", "here", "Crush", "--as", "p")
        assert "3 created, 0 updated" in run("import", "p", "there", "--yes").out
        one.cards[1][2]["text"] = "see #1, and #1, and #77"
        run("export", "p")
        assert "0 created, 1 updated" in run("import", "p", "there", "--yes").out
        found = two.told()
        assert found["Mill", "Wheel"] == ["see #2, and #2, and #77", [2], None, None]
        assert found["Press", "Crush"] == ["after #1", [1], {"board": 71, "card": 3}, "/71/2"]
        run("verify", "last")
        assert "Nothing to do" in run("import", "p", "there", "--yes").out
        run("undo", "there-2", "--yes")
        run("undo", "there-1", "--yes")
        assert (two.told(), sorted(two.boards)) == (before, [71])


class Drawers:
    """Drawers that are made with their columns, which have calls of their own ever after; the first one is never let go.
    What was made under a name of ours is found under that name."""

    def __init__(self, name: str, takes_columns: bool = True) -> None:
        self.name, self.takes_columns = name, takes_columns
        self.drawers: dict[str, dict[str, Any]] = {}
        self.columns: dict[str, list[dict[str, Any]]] = {}
        self.rows: dict[str, list[Any]] = {}
        self.slips: dict[str, dict[str, Any]] = {}
        self.add({"name": "own_list", "note": "the platform's", "columns": [{"name": "no"}]})

    def add(self, body: dict[str, Any]) -> dict[str, Any]:
        columns = body.pop("columns")
        assert columns
        # Some platforms add a column of their own.
        self.columns[body["name"]] = [*columns, {"name": "stamp"}]
        self.drawers[body["name"]] = made = {"id": body["name"], **body}
        self.rows[body["name"]] = []
        return made

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, kind, *steps = path.split("/")
        if kind == "about":
            return 200, {"uid": self.name}, {}
        if kind == "drawers" and not steps:
            return (201, self.add(body), {}) if method == "POST" else (200, {"all": list(self.drawers.values())}, {})
        drawer = steps[0]
        if drawer not in self.drawers:
            return 404, {}, {}
        if kind == "rows":
            self.rows[drawer] += body or []
            return 200, len(self.rows[drawer]) if said else self.rows[drawer], {}
        if kind == "columns":
            if method == "POST" or steps[1:] == ["no"]:
                return 400, {}, {}
            if method == "DELETE" and not self.takes_columns:
                return 400, {}, {}
            if method == "DELETE":
                self.columns[drawer] = [one for one in self.columns[drawer] if one["name"] != steps[1]]
            return 200, self.columns[drawer], {}
        if steps[1:] == ["slips"]:
            if method == "POST":
                number = f"s{len(self.slips)}{self.name}"
                self.slips[number] = {"id": number, "drawer": drawer, **body}
                return 201, self.slips[number], {}
            return 200, [one for one in self.slips.values() if one["drawer"] == drawer], {}
        held, name = (self.slips, steps[-1]) if len(steps) > 1 else (self.drawers, drawer)
        if name not in held:
            return 404, {}, {}
        if method == "DELETE":
            return 200, held.pop(name), {}
        held[name] |= body or {}
        return 200, held[name], {}


def test_what_is_made_with_its_parts_and_brings_what_it_holds(tmp_path: Path) -> None:
    one, two = Drawers("one", True), Drawers("two", False)
    for name in ("press", "mill"):
        one.add({"name": name, "note": "a", "columns": [{"name": "no"}, {"name": "kilos"}]})
        one.columns[name].pop()
        one.slips[f"s-{name}"] = {"id": f"s-{name}", "drawer": name, "name": f"of {name}", "text": "t"}
    one.rows["press"] = [{"no": number} for number in range(3)]
    with pair(tmp_path, sheets_of("drawers"), one, two) as run:
        assert "holds 4 items" in run("survey", "here").out
        # What is asked for only to be held by something brings the rest of what that holds no more than it has to.
        one.slips["s-2"] = {"id": "s-2", "drawer": "press", "name": "more", "text": "t"}
        assert "2 items" in run("export", "here", "more", "--as", "q").out
        found = run("export", "here", "press", "--as", "p", "--with", "records").out
        assert "held by drawer:press" in found
        assert "3 items" in found
        assert "2 items" in run("export", "here", "press", "--as", "p", "--leave-out", "more", "--preview").out
        # A column that the platform adds, and doesn't let go: half of it was made by then, and is gone again.
        failed = run("import", "p", "there", "--with", "records", "--yes", code=4)
        assert "as it was before" in failed.err
        assert list(two.drawers) == ["own_list"]
        two.takes_columns = True
        run("import", "p", "there", "--with", "records", "--yes")
        assert two.columns["press"] == [{"name": "kilos"}, {"name": "no"}]
        assert (two.rows["press"], len(two.slips)) == (one.rows["press"], 2)
        # Rows that people enter are theirs, whatever we have seen of them since.
        two.rows["press"].append({"no": 9})
        one.drawers["press"]["note"] = "b"
        run("export", "here", "press", "--as", "p")
        run("import", "p", "there", "--yes")
        run("undo", "there-4", "--yes")
        kept = run("undo", "there-3", "--yes", code=1).out
        assert "'press' stays as it is: it holds 4 rows by now" in kept
        assert (len(two.rows["press"]), two.drawers["press"]["note"]) == (4, "a")


BIN = '{ delete = "/lamps/{id}", then = { delete = "/bin/{id}" } }'


class Lamps(Plain):
    """Lamps with marks of several sorts; what is removed goes to a bin first, and keeps its name until it is out of
    that."""

    empties = True

    def __init__(self, name: str, *sorts: str) -> None:
        super().__init__(name)
        self.sorts, self.marks = sorts, defaultdict[str, list[dict[str, str]]](list)
        self.lamps, self.bin = self.held["lamps"], self.held["bin"]

    def next(self) -> str:
        return f"{self.name}{super().next()}"

    def made(self, kind: str, body: Any) -> Said:
        is_taken = any(one["name"] == body["name"] for one in [*self.lamps.values(), *self.bin.values()])
        return (409, {"message": "taken"}, {}) if is_taken else super().made(kind, body)

    def removed(self, kind: str, one: dict[str, Any]) -> None:
        if kind == "lamps":
            self.bin[one["id"]] = one
        super().removed(kind, one)

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        marks = self.marks[one["id"]]
        if method == "POST" and body["sort"] not in self.sorts:
            return 400, {"message": "no such sort"}, {}
        if method == "POST":
            marks.append(body)
        if method == "DELETE":
            marks.remove({"sort": steps[1], "word": steps[2]})
        return 200, marks, {}


def test_half_of_a_change_is_taken_back_and_a_name_is_let_go(tmp_path: Path) -> None:
    gate, north = {"sort": "team", "word": "gate"}, {"sort": "zone", "word": "north"}
    one, two = Lamps("a", "zone", "team"), Lamps("b", "team")
    lamp = one.add("lamps", name="Yard", colour="red")
    one.marks[lamp["id"]] = [gate]
    with pair(tmp_path, sheets_of("lamps"), one, two) as run:
        assert "then = { … }" in run("env", "prove", "here", "--yes", code=1).out
        lamps = sheets_of("lamps")["lamps"]
        (tmp_path / "lamps.toml").write_text(lamps.replace('{ delete = "/lamps/{id}" }', BIN), "utf-8")
        one.bin.clear()
        run("env", "prove", "here", "--yes")
        run("export", "here", "Yard", "--as", "p")
        run("import", "p", "there", "--yes")
        run("undo", "last", "--yes")
        run("import", "p", "there", "--yes")
        # The first of three calls takes effect, the second too, and the third is refused.
        lamp["colour"], one.marks[lamp["id"]] = "blue", [{"sort": "team", "word": "crew"}, north]
        run("export", "here", "Yard", "--as", "p")
        assert "as it was before" in run("import", "p", "there", "--yes", code=4).err
        [(number, kept)] = two.lamps.items()
        assert (kept["colour"], two.marks[number]) == ("red", [gate])
        two.sorts = ("team", "zone")
        run("import", "p", "there", "--yes")
        assert (kept["colour"], two.marks[number]) == ("blue", one.marks[lamp["id"]])
        run("undo", "last", "--yes")
        assert (kept["colour"], two.marks[number]) == ("red", [gate])


class Queues:
    """Queues that are made by their names, over those that are there, and are never changed; shown as members of
    objects, if they are so `keyed`."""

    def __init__(self, name: str, is_keyed: bool, **queues: int) -> None:
        self.name, self.is_keyed = name, is_keyed
        self.queues = {f"oil/{one}": most for one, most in queues.items()}

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        _, kind, *rest = path.split("/")
        name = unquote("".join(rest))
        if kind == "about":
            return 200, {"uid": self.name}, {}
        if not rest and self.is_keyed:
            return 200, {"all": {one: {"most": most} for one, most in self.queues.items()}}, {}
        if not rest:
            return 200, [{"id": one, "name": one, "most": most} for one, most in self.queues.items()], {}
        if method == "PUT":
            assert not self.is_keyed or set(body) == {"most"}, body
            self.queues[name] = body["most"]
            return 204, None, {}
        if name not in self.queues:
            return 404, {}, {}
        if method == "DELETE":
            del self.queues[name]
            return 204, None, {}
        if self.is_keyed:
            return 200, {name: {"most": self.queues[name]}}, {}
        return 200, {"id": name, "name": name, "most": self.queues[name]}, {}


@pytest.mark.parametrize("is_keyed", [False, True])
def test_what_is_made_and_removed_and_never_changed(is_keyed: bool, tmp_path: Path) -> None:
    sheet = sheets_of("queues")["queues"]
    sheet = sheet.replace('update     = { put = "/queues/{id}" }\n', "")
    if is_keyed:
        sheet += 'write = { without = ["$.id"] }\n'
        sheet = sheet.replace('rows = "$[*]"', 'rows = "$.all[*]", keyed = { at = "$.all", as = "id" }')
        sheet = sheet.replace("$.name", "$.id").replace(
            'get = "/queues/{id}"', 'get = "/queues/{id}", at = "$[0]", keyed = { at = "$", as = "id" }'
        )
    sheet = sheet.replace('{ post = "/queues" }', '{ put = "/queues/{title}", id = "listed" }')
    one, two = Queues("one", is_keyed, a=1, b=2), Queues("two", is_keyed, c=3)
    with pair(tmp_path, sheets_of("queues", queues=sheet), one, two) as run:
        assert "same = [...]" in run("env", "prove", "here", "--yes", code=1).out
        (tmp_path / "queues.toml").write_text(
            sheet.replace('"listed"', f'"listed", same = ["$.{"id" if is_keyed else "name"}"]'), "utf-8"
        )
        run("env", "prove", "here", "--yes")
        run("export", "here", "*", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.queues == {**one.queues, "oil/c": 3}
        one.queues["oil/b"] = 5
        run("export", "here", "*", "--as", "p")
        refused = run("import", "p", "there", "--yes", code=3)
        assert "In there a queue is made and removed, and never changed." in refused.err
        run("undo", "last", "--yes")
        assert two.queues == {"oil/c": 3}
