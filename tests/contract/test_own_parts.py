"""A platform that numbers the widgets of each board when it takes them, and names them by these numbers in the same
board: in a list, and as names of members."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from amphora.core.values.errors import SheetFault
from amphora.environments.bridge.sheet import parse_bridge
from tests.conftest import Done
from tests.contract.answering import Plain, Said, pair, sheets_of

SHEETS = sheets_of("widgets")
BOARDS, BOARD = SHEETS["widgets"], SHEETS["board"]
APART = (
    'more = { widgets = { get = "/boards/{id}/widgets", entry = "$.id", by = "$.title", '
    'add = { post = "/boards/{id}/widgets" }, remove = { delete = "/boards/{id}/widgets/{entry}" } } }\n'
)


class Boards(Plain):
    """Takes nothing that names a widget which isn't there."""

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        one = super().add(kind, **{"widgets": [], "layout": [], "sizes": {}, "main": None, **members})
        self._numbered(one)
        return one

    def _numbered(self, one: dict[str, Any]) -> None:
        for widget in one["widgets"]:
            widget["id"] = widget.get("id") or self.next()

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        if method == "POST":
            one["widgets"].append({**body, "id": self.next()})
        elif method == "DELETE":
            one["widgets"] = [widget for widget in one["widgets"] if widget["id"] != int(steps[1])]
        return 200, one["widgets"], {}

    def made(self, kind: str, body: Any) -> Said:
        return self.refused(body, []) or super().made(kind, body)

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said | None:
        refused = self.refused(body, one["widgets"])
        if not refused:
            one |= {"layout": [], "sizes": {}, "main": None, **body}
            self._numbered(one)
        return refused

    def refused(self, body: Any, widgets: list[Any]) -> Said | None:
        there = {widget["id"] for widget in body.get("widgets", widgets) if "id" in widget}
        named = {row["widget"] for row in body.get("layout") or []} | {int(name) for name in body.get("sizes") or {}}
        missing = (named | ({body["main"]} if body.get("main") else set())) - there
        return (422, {"message": f"there is no widget {missing}"}, {}) if missing else None

    def told(self) -> dict[str, Any]:
        """Each board with what its numbers mean."""
        found = {}
        for one in self.held["boards"].values():
            called = {widget["id"]: widget["title"] for widget in one["widgets"]}
            layout = [(called[row["widget"]], row["x"]) for row in one["layout"]]
            sizes = {called[int(name)]: size for name, size in one["sizes"].items()}
            found[one["name"]] = (sorted(called.values()), layout, sizes, one["main"] and called[one["main"]])
        return found


@pytest.mark.parametrize("is_apart", [False, True])
def test_what_names_its_own_parts_is_completed_when_they_have_numbers(tmp_path: Path, is_apart: bool) -> None:
    one, two = Boards("one", 0), Boards("two", 700)
    board = one.add("boards", name="Press", widgets=[{"title": title} for title in ("Yield", "Kilos", "Yield")])
    first, second, third = (widget["id"] for widget in board["widgets"])
    board["layout"] = [{"widget": second, "x": 0}, {"widget": first, "x": 9}, {"widget": third, "x": 5}]
    if is_apart:
        # Entries with calls of their own are told apart by what they are called.
        board["widgets"][2]["title"] = "Sum"
    board |= {"sizes": {str(first): 3, str(second): 4}, "main": second}
    sheet = BOARDS.replace('"widgets", ', "") + APART if is_apart else BOARDS
    unordered = 'unordered = ["$.widgets"]\n' if is_apart else ""
    with pair(tmp_path, {"widgets": sheet, "board": BOARD + unordered}, one, two) as run:
        run("export", "here", "Press", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == one.told()
        run("verify", "p", "there")
        assert "Nothing to do" in run("import", "p", "there", "--yes").out
        # A new widget, and what names it, in one change.
        board["widgets"].append({"title": "Loss", "id": 99})
        board["layout"].insert(0, {"widget": 99, "x": 1})
        board |= {"sizes": {"99": 7}, "main": 99}
        run("export", "here", "Press", "--as", "p")
        run("import", "p", "there", "--yes")
        assert two.told() == one.told()
        run("verify", "p", "there")
        assert "is as it was before" in run("undo", "last", "--yes").out
        assert two.told()["Press"][3] == "Kilos"
        run("env", "prove", "here", "--yes")
        assert set(one.told()) == {"Press"}


def test_ids_that_are_left_out_tell_no_parts_apart() -> None:
    sheet = BOARDS.replace('"widgets", ', "") + APART.replace(
        'by = "$.title",', 'by = "$.title", without = ["$.id"],'
    )
    with pytest.raises(SheetFault) as caught:
        parse_bridge(sheet, "widgets.toml", {"board.toml": BOARD + 'unordered = ["$.widgets"]\n'})
    assert any("needs $.id to tell parts by" in line for line in caught.value.details), caught.value.details


CHAIN = """
kind  = "board"
start = true
[[part]]
at    = "$.widgets[*].next"
parts = "$.widgets[*]"
name  = "$.title"
alone = true
[fields]
named    = { "$.widgets" = "title" }
volatile = ["$.widgets[*].id"]
"""


class Chains(Boards):
    """Takes one widget of a board after the other, and no two that lead to the same one, or to one that isn't there.
    After so many changes it is down."""

    changes = -1

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if self.changes == 0:
            return 500, {}, {}
        self.changes -= method == "PUT"
        return super().__call__(method, path, said, body, headers)

    def made(self, kind: str, body: Any) -> Said:
        one = self.add(kind, name=body["name"])
        refused = self.changed(kind, one, body)
        if refused:
            self.removed(kind, one)
        return refused or (201, one, {})

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said | None:
        there = {widget["id"]: dict(widget) for widget in one["widgets"]}
        for widget in body["widgets"]:
            leads = widget["next"]
            others = {row["next"] for id_, row in there.items() if id_ != widget.get("id")}
            if widget["title"] == "bad" or (leads is not None and (leads in others or leads not in there)):
                return 422, {"message": f"{widget['title']} is not taken"}, {}
            there[widget.setdefault("id", self.next())] = widget
        kept = [widget for id_, widget in there.items() if id_ in {row["id"] for row in body["widgets"]}]
        one |= {"name": body["name"], "widgets": sorted(kept, key=lambda row: str(row["title"]), reverse=True)}
        return None

    def chain(self) -> dict[str, str | None]:
        """What each widget leads to."""
        [one] = self.held["boards"].values()
        called = {widget["id"]: widget["title"] for widget in one["widgets"]} | {None: None}
        return {widget["title"]: called[widget["next"]] for widget in one["widgets"]}

    def linked(self, *titles: str) -> None:
        """Lets one lead to the other."""
        [board] = self.held["boards"].values()
        ids = {widget["title"]: widget["id"] for widget in board["widgets"]}
        numbers = [ids.get(title) or self.next() for title in titles]
        board["widgets"] = [
            {"id": number, "title": title, "next": after}
            for number, title, after in zip(numbers, titles, [*numbers[1:], None], strict=True)
        ]


@contextmanager
def chained(folder: Path, one: Chains, two: Chains) -> Iterator[tuple[Callable[..., Done], Callable[..., str]]]:
    """A chain of three that was carried; how commands are run, and how it is carried again."""
    one.add("boards", name="Press")
    one.linked("a", "b", "c")
    boards = BOARDS.replace(', "layout", "sizes", "main"', "")
    with pair(folder, {"widgets": boards, "board": f'{CHAIN}unordered = ["$.widgets"]\n'}, one, two) as run:

        def carried(code: int = 0) -> str:
            run("export", "here", "Press", "--as", "p")
            return run("import", "p", "there", "--yes", code=code).err

        carried()
        yield run, carried


def test_what_no_two_parts_may_name_is_let_go_of_before_another_one_names_it(tmp_path: Path) -> None:
    one, two = Chains("one", 0), Chains("two", 700)
    with chained(tmp_path, one, two) as (run, carried):
        [there] = two.held["boards"].values()
        was, ids = two.chain(), {widget["title"]: widget["id"] for widget in there["widgets"]}
        assert was == one.chain()
        # One gone, and one in the middle, which another one leads to from now on.
        one.linked("a", "d", "b")
        carried()
        assert two.chain() == one.chain()
        run("verify", "last")
        kept = {widget["title"]: widget["id"] for widget in there["widgets"]}
        assert (kept["a"], kept["b"]) == (ids["a"], ids["b"])
        assert "is as it was before" in run("undo", "last", "--yes").out
        assert two.chain() == was
        # Refused when it has let go: it takes up again what it led to.
        one.linked("a", "bad", "b")
        assert "bad is not taken. there is as it was before." in carried(4)
        assert two.chain() == was


@pytest.mark.parametrize("changes", [1, 2])
@pytest.mark.parametrize("how", ["undo", "resume"])
def test_a_change_that_broke_off_between_its_calls_is_finished_or_taken_back(
    tmp_path: Path, how: str, changes: int
) -> None:
    one, two = Chains("one", 0), Chains("two", 700)
    with chained(tmp_path, one, two) as (run, carried):
        was = two.chain()
        one.linked("a", "d", "b")
        two.changes = changes
        carried(6)
        assert two.chain() not in (was, one.chain())
        two.changes = -1
        run(*(("undo", "last", "--yes") if how == "undo" else ("resume",)))
        assert two.chain() == (was if how == "undo" else one.chain())
