"""A platform that puts something into whatever is new by itself: a first column of which there is always one, and a
view that anybody may remove."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run_program
from tests.contract.answering import Said, described, pair

BRINGS = 'brings = [{ kind = "column", keeps = "$.first" }, { kind = "view" }]'
SHEET = 'bridge = "shed"\nkinds = ["table.toml", "column.toml", "view.toml"]\n[about]\nuid = { get = "/about", at = "$.uid" }\n'
SHEET += described("table", "/tables", ["note"]).replace(
    'delete = "/tables/{id}"',
    'delete = "/tables/{id}", takes = [{ kind = "column", at = "$.of" }, { kind = "view", at = "$.of" }]',
)
for _kind, _members in (("column", ["of", "first", "size"]), ("view", ["of", "shows"])):
    _lines = described(_kind, f"/{_kind}s", _members, 'within = { kind = "table", as = "of" }\n')
    SHEET += _lines.replace(f'get = "/{_kind}s", rows', f'get = "/tables/{{parent}}/{_kind}s", rows').replace(
        f'post = "/{_kind}s"', f'post = "/tables/{{parent}}/{_kind}s"'
    )
HELD = '[[refers]]\nat = "$.of"\nto = ["table"]\nrequired = true\n'


def kind(name: str, more: str = "") -> str:
    return f'kind = "{name}"\n[ids]\nspace = "{name}"\nnumber = true\n{more}'


KINDS = {
    "table": kind("table").replace("[ids]", "start = true\n[ids]"),
    "column": kind("column", HELD),
    "view": kind("view", f'{HELD}[[refers]]\nat = "$.shows[*]"\nto = ["column"]\n'),
}


class Shed:
    """Tables with columns and views."""

    def __init__(self, name: str, count: int) -> None:
        self.name, self.count = name, count
        self.held = dict[int, dict[str, Any]]()
        self.is_broken = self.is_shut = False

    def add(self, kind: str, name: str, **members: Any) -> int:
        self.count += 1
        number = self.count
        self.held[number] = {"id": number, "kind": kind, "name": name, **members}
        if kind == "table":
            self.add("column", "Name", of=number, first=True, size=1)
            self.add("view", "All", of=number, shows=[])
        return number

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        steps = path.strip("/").split("/")
        if self.is_broken and self.held and "Growers" in {one["name"] for one in self.held.values()}:
            return 500, {}, {}
        if steps == ["about"]:
            return 200, {"uid": self.name}, {}
        kind, within = steps[-1].removesuffix("s"), {"of": int(steps[1])} if len(steps) == 3 else {}
        if within or len(steps) == 1:
            if method == "POST":
                if self.is_shut and kind != "table":
                    return 422, {"message": "not now"}, {}
                # There is one first column, and it is there already.
                first = {"first": False} if kind == "column" else {}
                return 201, self.held[self.add(kind, **body | within | first)], {}
            rows = [one for one in self.held.values() if one["kind"] == kind]
            return 200, [one for one in rows if within.items() <= one.items()], {}
        one = self.held.get(int(steps[1]))
        if one is None or f"{one['kind']}s" != steps[0]:
            return 404, {}, {}
        if method == "DELETE":
            if one.get("first"):
                return 409, {"message": "each table has a first column"}, {}
            self.held = {n: o for n, o in self.held.items() if one["id"] not in (n, o.get("of"))}
        if method == "PUT" and self.is_shut:
            return 422, {"message": "not now"}, {}
        if method == "PUT":
            kept = {name: one[name] for name in ("id", "kind", "of", "first") if name in one}
            one.clear()
            one.update(body | kept)
        return 200, one, {}

    def told(self) -> list[str]:
        """All of it, by its names."""
        called = {number: one["name"] for number, one in self.held.items()}
        return sorted(
            f"{called.get(one.get('of', 0), '')}/{one['name']} {one.get('size', '')} {[called[n] for n in one.get('shows', ())]}"
            for one in self.held.values()
        )


@contextmanager
def sheds(folder: Path, sheet: str) -> Iterator[tuple[Any, Shed, Shed]]:
    one, two = Shed("one", 0), Shed("two", 500)
    table = one.add("table", "Growers", note="who they are")
    one.held[table + 1] |= {"name": "Full name", "size": 40}
    village = one.add("column", "Village", of=table, first=False, size=20)
    one.held[table + 2]["shows"] = [village]
    one.add("view", "Far away", of=table, shows=[table + 1, village])
    two.add("table", "Stock", note="")
    for name, text in {"shed": sheet, **KINDS}.items():
        (folder / f"{name}.toml").write_text(text, "utf-8")
    with pair(folder, "shed", one, two) as run:
        yield run, one, two


def test_what_a_platform_puts_into_a_new_item_is_taken_away_or_written_over(tmp_path: Path) -> None:
    sheet = SHEET.replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {BRINGS}')
    with sheds(tmp_path, sheet) as (run, one, two):
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
        table = next(n for n, o in two.held.items() if o["name"] == "Growers")
        two.add("column", "Phone", of=table, first=False, size=9)
        done = run("undo", "last", "--yes", code=1)
        assert "'Growers' stays as it is" in done.out
        assert "'Full name' stays as it is: 'Growers', which stays, uses it" in done.out
        assert two.told() == sorted([*before, "/Growers  []", "Growers/Full name 40 []", "Growers/Phone 9 []"])
        # Of a table that is not new its first column is somebody's.
        del two.held[table + 1]
        two.add("column", "Theirs", of=table, first=True, size=1)
        run("compare", "p", "there", "--choose", "column:Growers/Full name=package", "--docket", "d.yaml", code=1)
        assert "column:Growers/Full name at first" in run("import", "d.yaml", "--yes").out
        assert "Growers/Theirs 1 []" in two.told()


def test_what_somebody_works_on_stays_with_all_that_it_holds(tmp_path: Path) -> None:
    sheet = SHEET.replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {BRINGS}')
    with sheds(tmp_path, sheet) as (run, _, two):
        run("export", "here", "Growers", "--as", "p")
        run("import", "p", "there", "--yes")
        [table] = [item for item in two.held.values() if item["name"] == "Growers"]
        table["note"] = "theirs"
        then = two.told()
        done = run("undo", "last", "--yes", code=1)
        assert "'Village' stays as it is: 'Growers', which stays, holds it" in done.out
        assert two.told() == then


def test_what_a_creation_that_was_cut_off_left_is_finished(tmp_path: Path) -> None:
    sheet = SHEET.replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {BRINGS}')
    with sheds(tmp_path, sheet) as (run, one, two):
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
    sheet = SHEET.replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {BRINGS}')
    with sheds(tmp_path, sheet) as (run, one, two):
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
    with sheds(tmp_path, SHEET) as (run, *_):
        done = run("env", "prove", "here", "--yes", code=1)
        for words in ("'Name' into it: say brings = [{ kind = 'column' }]", "'All' into it: say brings"):
            assert words in done.out


@pytest.mark.parametrize(
    ("brings", "told"),
    [
        ('brings = [{ kind = "table" }]', "`item.table.create.brings`: 'table' is no kind whose `within`"),
        (
            f'{BRINGS} }}\nretire = {{ delete = "/tables/{{id}}"',
            "never removed alone goes with this: say so of 'column'",
        ),
        ('brings = [{ kind = "view", keep = "$.a" }]', "`item.table.create.brings.keep` is not known"),
        ('brings = [{ kind = "view", keeps = "$[" }]', "'$[' is not a JSONPath"),
    ],
)
def test_what_is_put_into_a_new_item_is_read_strictly(tmp_path: Path, brings: str, told: str) -> None:
    lines = [line for line in SHEET.splitlines() if "retire" not in brings or "takes" not in line]
    sheet = "\n".join(lines).replace('create     = { post = "/tables"', f'create     = {{ post = "/tables", {brings}')
    for name, text in {"shed": sheet, **KINDS}.items():
        (tmp_path / f"{name}.toml").write_text(text, "utf-8")
    run_program(tmp_path, "init")
    done = run_program(tmp_path, "env", "add", "x", "http://127.0.0.1:9", "--bridge", "shed.toml", "--role", "test")
    assert (done.code, told in done.err) == (2, True), done.err
