"""What is written for other programs: figures, findings, proofs; checked by what others have written."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree

import jsonschema
import pytest
import xmlschema

from tests.conftest import Program

FILES = Path(__file__).parents[1] / "files"


@pytest.mark.parametrize("ending", ["svg", "png"])
def test_the_figure_names_every_item(amphora: Program, halcyon: Path, ending: str) -> None:
    path = halcyon / f"net.{ending}"
    assert amphora("uses", "grove-dev", "Press log", "--figure", path).code == 0
    if ending == "svg":
        words = "".join(ElementTree.parse(path).getroot().itertext())
        assert all(title in words for title in ("Press log", "Mill crew", "Olive varieties", "letter-template"))
    else:
        assert path.read_bytes().startswith(b"\x89PNG")
    assert amphora("uses", "grove-dev", "Press log", "--figure", "net.gif").code == 2


def test_findings_are_sarif(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Harvest Intake", "--as", "intake", "--leave-out", "Olive varieties")
    done = amphora("check", "intake", "grove-live", "grove-south", "--sarif", "found.sarif", "--json")
    log = json.loads((halcyon / "found.sarif").read_text())
    jsonschema.Draft4Validator(json.loads((FILES / "sarif-2.1.0.schema.json").read_text())).validate(log)
    assert [run["properties"]["target"] for run in log["runs"]] == ["grove-live", "grove-south"]
    results = [result for run in log["runs"] for result in run["results"]]
    assert [result["ruleId"] for result in results] == [finding["rule"] for finding in done.json["findings"]]
    first = results[0]
    assert (first["ruleId"], first["level"], done.code) == ("item-missing", "error", 3)
    assert log["runs"][0]["tool"]["driver"]["rules"][first["ruleIndex"]]["id"] == "item-missing"
    assert first["locations"][0]["logicalLocations"][0]["name"] == "columns > variety > values"


def test_a_proof_is_junit(amphora: Program, halcyon: Path) -> None:
    amphora("export", "grove-dev", "Weigh ticket", "--as", "tickets")
    amphora("import", "tickets", "grove-live", "--yes")
    for item, change in (("Weigh slip", '/subject="Mine"'), ("Weigh ticket", "/steps/1/copies=7")):
        amphora("practice", "edit", "grove-live.practice", item, "--set", change)
    assert amphora("verify", "last", "--junit", "v.xml").code == 1
    xmlschema.XMLSchema(FILES / "junit-10.xsd").validate(halcyon / "v.xml")
    text = (halcyon / "v.xml").read_text(encoding="utf-8")
    assert (text.count("<failure"), "edited there by ines@halcyon.example at /subject" in text) == (2, True)
