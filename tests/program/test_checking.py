"""Checking, fixing and mapping through the real program."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import jsonschema
import pytest

from tests.conftest import Program, run_program

SCHEMA = json.loads((Path(__file__).parents[1] / "files" / "sarif-2.1.0.schema.json").read_text())


@pytest.fixture
def torn(amphora: Program, halcyon: Path) -> Path:
    """A package from which something was left out."""
    done = amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--leave-out", "Olive varieties")
    assert done.code == 0
    return halcyon


def test_findings_for_machines_are_sarif(amphora: Program, torn: Path) -> None:
    done = amphora("check", "olive-intake", "grove-live", "grove-south", "--sarif", "found.sarif", "--json")
    log = json.loads((torn / "found.sarif").read_text())
    jsonschema.Draft4Validator(SCHEMA).validate(log)
    assert [run["properties"]["target"] for run in log["runs"]] == ["grove-live", "grove-south"]
    results = [result for run in log["runs"] for result in run["results"]]
    assert [r["ruleId"] for r in results] == [f["rule"] for f in done.json["findings"]]
    first = results[0]
    assert (first["ruleId"], first["level"]) == ("item-missing", "error")
    assert log["runs"][0]["tool"]["driver"]["rules"][first["ruleIndex"]]["id"] == "item-missing"
    places = first["locations"][0]["logicalLocations"][0]
    assert places["name"] == "columns > variety > values"
    assert done.code == 3


def test_rules_are_listed_and_set_otherwise(amphora: Program, torn: Path) -> None:
    rules = {rule["rule"]: rule for rule in amphora("check", "--rules", "--json").json["rules"]}
    assert rules["item-missing"]["level"] == "error"
    path = torn / "amphora.toml"
    text = path.read_text()
    path.write_text(text + '[rules]\nitem-missing = "warning"\n')
    done = amphora("check", "olive-intake", "grove-live")
    assert (done.code, done.verdict) == (0, "olive-intake 1.0.0 can go to grove-live: 1 warning.")
    assert amphora("check", "olive-intake", "grove-live", "--strict").code == 1
    path.write_text(text + '[[silenced]]\nrule = "item-missing"\nitem = ""\nreason = "made by hand there"\n')
    assert amphora("check", "olive-intake", "grove-live").verdict == "olive-intake 1.0.0 can go to grove-live."
    for wrong in (
        '[rules]\nnonsense = "error"\n',
        '[rules]\nitem-missing = "loud"\n',
        '[[silenced]]\nrule = "x"\nitem = ""\nreason = "r"\n',
    ):
        path.write_text(text + wrong)
        assert (amphora("check", "--rules").code, "line" in amphora("env", "list").err) == (2, True)


def test_a_package_is_checked_without_a_target(amphora: Program, torn: Path) -> None:
    done = amphora("check", "olive-intake")
    assert (done.code, done.verdict) == (0, "olive-intake 1.0.0 by itself: nothing amiss.")
    assert amphora("check").code == 2
    elsewhere = torn.parent / "elsewhere"
    elsewhere.mkdir()
    package = torn / "packages" / "olive-intake-1.0.0.amphora"
    assert run_program(elsewhere, "check", package).verdict == "olive-intake 1.0.0 by itself: nothing amiss."
    assert list(elsewhere.iterdir()) == []


def test_the_crosswalk_goes_through_a_spreadsheet_unchanged(amphora: Program, torn: Path) -> None:
    path, table = torn / "crosswalk.yaml", torn / "rows.csv"
    text = path.read_text()
    amphora("map", "olive-intake", "grove-live", "--csv-out", "rows.csv")
    mapped = path.read_text()
    assert amphora("map", "olive-intake", "grove-live", "--csv-in", "rows.csv", "--json").json["cells_written"] == 0
    assert path.read_text() == mapped == text
    rows = list(csv.reader(io.StringIO(table.read_text(encoding="utf-8-sig"))))
    column = rows[0].index("grove-live")
    [row] = [row for row in rows if row[1] == "weigh-ticket-batch"]
    row[column] = "55"
    with table.open("w", newline="") as file:
        csv.writer(file).writerows(rows)
    assert amphora("map", "olive-intake", "grove-live", "--csv-in", "rows.csv").code == 0
    assert "grove-live: 55" in path.read_text()
    table.write_text(table.read_text().replace("settings,weigh", "colours,weigh"))
    refused = amphora("map", "olive-intake", "grove-live", "--csv-in", "rows.csv")
    assert (refused.code, "line " in refused.err) == (2, True)


def test_a_column_can_stand_apart_and_contradictions_are_told(amphora: Program, torn: Path) -> None:
    (torn / "crosswalk").mkdir()
    apart = torn / "crosswalk" / "grove-south.yaml"
    apart.write_text("# South only.\nconnections:\n  mill-db: weighbridge-south\n", encoding="utf-8")
    done = amphora("map", "olive-intake", "grove-south")
    assert "crosswalk.yaml says 'mill-db-south' for grove-south, grove-south.yaml says" in done.out
    amphora("map", "olive-intake", "grove-south", "--set", "mill-db=mill-db-south")
    assert apart.read_text().startswith("# South only.\nconnections:\n  mill-db: mill-db-south\n")
    with (torn / "crosswalk.yaml").open("a") as file:
        file.write("urls:\n  nobody: {grove-dev: 'https://a.example'}\n")
    assert "no package in this workspace needs it" in amphora("map", "olive-intake", "grove-live").out
