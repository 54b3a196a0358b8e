"""A platform that numbers tables and their columns, and writes both in one text: `"12.3/sum"`, in lists, as names of
members, and in JSON that stands in a string. Columns it also names by their own numbers alone."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from tests.contract.answering import Plain, pair, sheets_of


class Sheets(Plain):
    """Numbers whatever it is given, from another one on each instance."""

    empties = True

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        one = super().add(kind, **members)
        self.changed(kind, one, members)
        return one

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> None:
        super().changed(kind, one, body)
        for column in one.get("columns") or []:
            column["id"] = column.get("id") or self.next()

    def column(self, table: int, name: str) -> str:
        columns = self.held["tables"][table]["columns"]
        return f"{table}.{next(column['id'] for column in columns if column['name'] == name)}"

    def meant(self, column: int) -> str:
        """Which table and column this number is of, over all tables."""
        there = ((t["name"], c["name"], c["id"]) for t in self.held["tables"].values() for c in t["columns"])
        return next(f"{table}.{name}" for table, name, id_ in there if id_ == column)


def _called(sheets: Sheets, text: str) -> str:
    """What a text with numbers means there."""
    table, _, rest = text.partition(".")
    column, _, how = rest.partition("/")
    found = sheets.held["tables"][int(table)]
    return f"{found['name']}.{next(c['name'] for c in found['columns'] if c['id'] == int(column))} {how}".strip()


def test_numbers_inside_of_one_text_are_those_of_each_instance(tmp_path: Path) -> None:
    one, two = Sheets("one", 0), Sheets("two", 500)
    table = one.add("tables", name="Intake", columns=[{"name": "Kilos"}, {"name": "Day"}])["id"]
    kilos, day = one.column(table, "Kilos"), one.column(table, "Day")
    look = json.dumps({"colours": {kilos: "red", "else": "grey"}, "wide": True})
    apart = one.add("tables", name="Scales", columns=[{"name": "Kilos"}])["id"]
    marks = [int(text.partition(".")[2]) for text in (kilos, one.column(apart, "Kilos"))]
    more = {"marks": [*marks, 7_000], "tints": {f"c{marks[1]}": "blue", "rest": "grey"}}
    chart = one.add("charts", name="Yield", series=[f"{kilos}/sum", f"{day}/", "all"], look=look, **more)
    # There the columns stand the other way round, and one is missing for now.
    other = two.add("tables", name="Intake", columns=[{"name": "Day"}])
    with pair(tmp_path, sheets_of("sheets"), one, two) as run:
        run("env", "prove", "here", "--yes")
        run("export", "here", "Yield", "--leave-out", "Intake", "--as", "p")
        told = run("check", "p", "there", code=3).out
        assert "Kilos" in told
        other["columns"].append({"name": "Kilos", "id": 3})
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
        assert [two.meant(mark) for mark in made["marks"][:-1]] == ["Intake.Kilos", "Scales.Kilos"]
        [tint, rest] = made["tints"]
        assert (two.meant(int(tint[1:])), rest, made["marks"][-1]) == ("Scales.Kilos", "rest", 7_000)
        run("verify", "p", "there")
        # Both sides change one text each.
        chart["series"][0] = f"{kilos}/mean"
        made["look"] = made["look"].replace("red", "green")
        run("export", "here", "Yield", "--leave-out", "Intake", "--as", "p")
        run("compare", "p", "there", "--docket", "d.yaml", code=1)
        run("import", "d.yaml", "there", "--yes")
        assert (_called(two, made["series"][0]), "green" in made["look"]) == ("Intake.Kilos mean", True)
        assert two.meant(made["marks"][1]) == "Scales.Kilos"
        # A column that a chart uses is not to be taken from under it.
        run("undo", "last", "--yes")
        assert _called(two, made["series"][0]) == "Intake.Kilos sum"
        # What somebody changed in between stays, with what it uses.
        run("undo", "there-1", "--yes", code=1)
        assert "green" in made["look"]
        assert [two.meant(mark) for mark in made["marks"][:-1]] == ["Intake.Kilos", "Scales.Kilos"]
