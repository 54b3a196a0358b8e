"""A platform that puts something into whatever is new by itself: a first column of which there is always one, and a
view that anybody may remove."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run_program
from tests.contract.answering import Plain, Said, pair, sheets_of, written

BRINGS = 'brings = [{ kind = "column", keeps = "$.first" }, { kind = "view" }]'
SHEETS = sheets_of("shed")


class Shed(Plain):
    """Tables with columns and views, which are listed and made below their table."""

    is_broken = is_shut = False

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        one = super().add(kind, **members)
        if kind == "tables":
            self.add("columns", name="Name", of=one["id"], first=True, size=1)
            self.add("views", name="All", of=one["id"], shows=[])
        return one

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if self.is_broken and any(one["name"] == "Growers" for one in self.held["tables"].values()):
            return 500, {}, {}
        if self.is_shut and (method == "PUT" or (method == "POST" and path.count("/") > 1)):
            return 422, {"message": "not now"}, {}
        return super().__call__(method, path, said, body, headers)

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        [kind] = steps
        if method == "GET":
            return 200, [inner for inner in self.held[kind].values() if inner["of"] == one["id"]], {}
        # There is one first column, and it is there already.
        first = {"first": False} if kind == "columns" else {}
        return 201, self.add(kind, **body | {"of": one["id"]} | first), {}

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> None:
        kept = {name: one[name] for name in ("id", "of", "first") if name in one}
        one.clear()
        one |= body | kept

    def removed(self, kind: str, one: dict[str, Any]) -> Said | None:
        if one.get("first"):
            return 409, {"message": "each table has a first column"}, {}
        for inner in ("columns", "views") if kind == "tables" else ():
            self.held[inner] = {n: o for n, o in self.held[inner].items() if o["of"] != one["id"]}
        return super().removed(kind, one)

    def told(self) -> list[str]:
        """All of it, by its names."""
        every = [one for held in self.held.values() for one in held.values()]
        called = {one["id"]: one["name"] for one in every}
        return sorted(
            f"{called.get(one.get('of', 0), '')}/{one['name']} {one.get('size', '')} {[called[n] for n in one.get('shows', ())]}"
            for one in every
        )


PLAIN = SHEETS["shed"].replace(f", {BRINGS}", "")


@contextmanager
def sheds(folder: Path, sheet: str = SHEETS["shed"]) -> Iterator[tuple[Any, Shed, Shed]]:
    one, two = Shed("one", 0), Shed("two", 500)
    one.add("tables", name="Growers", note="who they are")
    named, all_ = one.named("Name"), one.named("All")
    named |= {"name": "Full name", "size": 40}
    village = one.add("columns", name="Village", of=1, first=False, size=20)["id"]
    all_["shows"] = [village]
    one.add("views", name="Far away", of=1, shows=[named["id"], village])
    two.add("tables", name="Stock", note="")
    with pair(folder, SHEETS | {"shed": sheet}, one, two) as run:
        yield run, one, two


def test_what_a_platform_puts_into_a_new_item_is_taken_away_or_written_over(tmp_path: Path) -> None:
    with sheds(tmp_path) as (run, one, two):
        before = two.told()
        assert "it was removed from under" not in run("env", "prove", "here", "--yes").out
        run("export", "here", "Growers", "--as", "p")
        run("import", "p", "there", "--yes")
        assert sorted([*one.told(), *before]) == two.told()
        run("verify", "p", "there")
        assert "there is as it was before" in run("undo", "last", "--yes").out
        assert two.told() == before
        # Somebody's own column keeps the table, and with it what goes only with that.
        run("import", "p", "there", "--yes")
        table = two.named("Growers")["id"]
        two.add("columns", name="Phone", of=table, first=False, size=9)
        done = run("undo", "last", "--yes", code=1)
        assert "'Growers' stays as it is" in done.out
        assert "'Full name' stays as it is: 'Growers', which stays, uses it" in done.out
        assert two.told() == sorted([*before, "/Growers  []", "Growers/Full name 40 []", "Growers/Phone 9 []"])
        # Of a table that is not new its first column is somebody's.
        del two.held["columns"][two.named("Full name")["id"]]
        two.add("columns", name="Theirs", of=table, first=True, size=1)
        run("compare", "p", "there", "--choose", "column:Growers/Full name=package", "--docket", "d.yaml", code=1)
        assert "column:Growers/Full name at first" in run("import", "d.yaml", "--yes").out
        assert "Growers/Theirs 1 []" in two.told()


def test_what_somebody_works_on_stays_with_all_that_it_holds(tmp_path: Path) -> None:
    with sheds(tmp_path) as (run, _, two):
        run("export", "here", "Growers", "--as", "p")
        run("import", "p", "there", "--yes")
        two.named("Growers")["note"] = "theirs"
        then = two.told()
        done = run("undo", "last", "--yes", code=1)
        assert "'Village' stays as it is: 'Growers', which stays, holds it" in done.out
        assert two.told() == then


def test_what_a_creation_that_was_cut_off_left_is_finished(tmp_path: Path) -> None:
    with sheds(tmp_path) as (run, one, two):
        before = two.told()
        run("export", "here", "Growers", "--as", "p")
        # From the moment on at which the table is there nothing is answered: nobody knows what came with it.
        for how in (("undo", "last", "--yes"), ("resume",)):
            two.is_broken = True
            run("import", "p", "there", "--yes", code=6)
            two.is_broken = False
            assert len(two.told()) == len(before) + 3
            run(*how)
            assert two.told() == (before if how[0] == "undo" else sorted([*one.told(), *before]))


def test_who_goes_on_knows_what_is_new(tmp_path: Path) -> None:
    with sheds(tmp_path) as (run, one, two):
        before = two.told()
        run("export", "here", "Growers", "--as", "p")
        # The table is made and answered; then nothing of what goes into it is.
        two.is_shut = True
        run("import", "p", "there", "--yes", "--if-it-fails", "keep", code=6)
        two.is_shut = False
        assert "Growers/Name 1 []" in two.told()
        run("resume")
        assert two.told() == sorted([*one.told(), *before])


def test_a_proof_tells_what_is_put_into_a_new_item(tmp_path: Path) -> None:
    with sheds(tmp_path, PLAIN) as (run, *_):
        done = run("env", "prove", "here", "--yes", code=1)
        for words in ("'Name' into it: say brings = [{ kind = 'column' }]", "'All' into it: say brings"):
            assert words in done.out


@pytest.mark.parametrize(
    ("brings", "told"),
    [
        ('brings = [{ kind = "table" }]', "`item.table.create.brings`: 'table' is no kind whose `within`"),
        (f'{BRINGS} }}\nretire = {{ delete = "/tables/{{id}}"', "never removed alone goes with this: say so of 'column'"),
        ('brings = [{ kind = "view", keep = "$.a" }]', "`item.table.create.brings.keep` is not known"),
        ('brings = [{ kind = "view", keeps = "$[" }]', "'$[' is not a JSONPath"),
    ],
)  # fmt: skip
def test_what_is_put_into_a_new_item_is_read_strictly(tmp_path: Path, brings: str, told: str) -> None:
    lines = [line for line in PLAIN.splitlines() if "retire" not in brings or "takes" not in line]
    sheet = "\n".join(lines).replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {brings}')
    written(tmp_path, SHEETS | {"shed": sheet})
    run_program(tmp_path, "init")
    done = run_program(tmp_path, "env", "add", "x", "http://127.0.0.1:9", "--bridge", "shed.toml", "--role", "test")
    assert (done.code, told in done.err) == (2, True), done.err
