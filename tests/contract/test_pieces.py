"""A platform that numbers tables and their columns, and writes both in one text: `"12.3/sum"`, in lists, as names of
members, and in JSON that stands in a string. Columns it also names by their own numbers alone."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tests.contract.answering import Said, described, pair

SHEETS = 'bridge = "sheets"\nkinds = ["table.toml", "chart.toml"]\n[about]\nuid = { get = "/about", at = "$.uid" }\n'
SHEETS += described("table", "/tables", ["columns"]) + described(
    "chart", "/charts", ["series", "look", "marks", "tints"]
)
TABLE = """
kind = "table"
[ids]
space  = "table"
number = true
[fields]
named    = { "$.columns" = "name" }
volatile = ["$.columns[*].id"]
"""
CHART = """
kind  = "chart"
start = true
[ids]
space  = "chart"
number = true
[[refers]]
at   = "$.series[*]"
to   = ["table"]
form = "{id}.{part}/{rest}"
part = { parts = "$.columns[*]" }
[[refers]]
at      = "$.look.colours"
to      = ["table"]
form    = "{id}.{part}"
part    = { parts = "$.columns[*]" }
members = true
[[refers]]
at   = "$.marks[*]"
to   = ["table"]
form = "{part}"
part = { parts = "$.columns[*]" }
[[refers]]
at      = "$.tints"
to      = ["table"]
form    = "c{part}"
part    = { parts = "$.columns[*]" }
members = true
[fields]
json = ["$.look"]
"""


class Sheets:
    """Numbers whatever it is given, from another one on each instance."""

    def __init__(self, name: str, first: int) -> None:
        self.name, self.number = name, first
        self.held: dict[str, dict[int, dict[str, Any]]] = {"tables": {}, "charts": {}}

    def add(self, kind: str, **members: Any) -> int:
        number = self.number = self.number + 1
        self.held[kind][number] = {"id": number, **members}
        self._numbered(self.held[kind][number])
        return number

    def _numbered(self, one: dict[str, Any]) -> None:
        for column in one.get("columns", []):
            if "id" not in column:
                self.number += 1
                column["id"] = self.number

    def column(self, table: int, name: str) -> str:
        return f"{table}.{next(c['id'] for c in self.held['tables'][table]['columns'] if c['name'] == name)}"

    def named(self, column: int) -> str:
        """Which table and column this number is of, over all tables."""
        there = [
            (t["name"], c["name"]) for t in self.held["tables"].values() for c in t["columns"] if c["id"] == column
        ]
        return ".".join(there[0])

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        if path == "/about":
            return 200, {"uid": self.name}, {}
        kind, _, number = path.strip("/").partition("/")
        if not number:
            return (200, list(self.held[kind].values()), {}) if method == "GET" else (201, self._made(kind, body), {})
        one = self.held[kind].get(int(number))
        if one is None:
            return 404, {}, {}
        if method == "DELETE":
            del self.held[kind][one["id"]]
        elif method == "PUT":
            one.clear()
            one |= {"id": int(number), **body}
            self._numbered(one)
        return 200, one, {}

    def _made(self, kind: str, body: Any) -> dict[str, Any]:
        return self.held[kind][self.add(kind, **body)]


def _called(sheets: Sheets, text: str) -> str:
    """What a text with numbers means there."""
    table, _, rest = text.partition(".")
    column, _, how = rest.partition("/")
    found = sheets.held["tables"][int(table)]
    return f"{found['name']}.{next(c['name'] for c in found['columns'] if c['id'] == int(column))} {how}".strip()


def test_numbers_inside_of_one_text_are_those_of_each_instance(tmp_path: Path) -> None:
    one, two = Sheets("one", 0), Sheets("two", 500)
    table = one.add("tables", name="Intake", columns=[{"name": "Kilos"}, {"name": "Day"}])
    kilos, day = one.column(table, "Kilos"), one.column(table, "Day")
    look = json.dumps({"colours": {kilos: "red", "else": "grey"}, "wide": True})
    apart = one.add("tables", name="Scales", columns=[{"name": "Kilos"}])
    marks = [int(text.partition(".")[2]) for text in (kilos, one.column(apart, "Kilos"))]
    more = {"marks": [*marks, 7_000], "tints": {f"c{marks[1]}": "blue", "rest": "grey"}}
    chart = one.add("charts", name="Yield", series=[f"{kilos}/sum", f"{day}/", "all"], look=look, **more)
    # There the columns stand the other way round, and one is missing for now.
    other = two.add("tables", name="Intake", columns=[{"name": "Day"}])
    for name, text in (("sheets", SHEETS), ("table", TABLE), ("chart", CHART)):
        (tmp_path / f"{name}.toml").write_text(text, "utf-8")
    with pair(tmp_path, "sheets", one, two) as run:
        run("env", "prove", "here", "--yes")
        run("export", "here", "Yield", "--leave-out", "Intake", "--as", "p")
        told = run("check", "p", "there", code=3).out
        assert "Kilos" in told
        two.held["tables"][other]["columns"].append({"name": "Kilos", "id": 3})
        run("import", "p", "there", "--yes")
        [made] = two.held["charts"].values()
        assert [_called(two, text) for text in made["series"][:2]] == ["Intake.Kilos sum", "Intake.Day"]
        assert made["series"][2] == "all"
        colours = json.loads(made["look"])["colours"]
        assert {_called(two, name): colour for name, colour in colours.items() if name != "else"} == {
            "Intake.Kilos": "red"
        }
        assert colours["else"] == "grey"
        # Some number that no column has, and a name of another form, go over as they are.
        assert [two.named(mark) for mark in made["marks"][:-1]] == ["Intake.Kilos", "Scales.Kilos"]
        [tint, rest] = made["tints"]
        assert (two.named(int(tint[1:])), rest, made["marks"][-1]) == ("Scales.Kilos", "rest", 7_000)
        run("verify", "p", "there")
        # Both sides change one text each.
        one.held["charts"][chart]["series"][0] = f"{kilos}/mean"
        made["look"] = made["look"].replace("red", "green")
        run("export", "here", "Yield", "--leave-out", "Intake", "--as", "p")
        run("compare", "p", "there", "--docket", "d.yaml", code=1)
        run("import", "d.yaml", "there", "--yes")
        assert (_called(two, made["series"][0]), "green" in made["look"]) == ("Intake.Kilos mean", True)
        assert two.named(made["marks"][1]) == "Scales.Kilos"
        # A column that a chart uses is not to be taken from under it.
        run("undo", "last", "--yes")
        assert _called(two, made["series"][0]) == "Intake.Kilos sum"
        # What somebody changed in between stays, with what it uses.
        run("undo", "there-1", "--yes", code=1)
        assert "green" in made["look"]
        assert [two.named(mark) for mark in made["marks"][:-1]] == ["Intake.Kilos", "Scales.Kilos"]
