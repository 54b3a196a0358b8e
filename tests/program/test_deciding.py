"""Comparing, deciding, retiring, carrying back: through the real program."""

from __future__ import annotations

import json
import os
import pty
import re
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import jsonpatch
import pytest
from hypothesis import example, given

from amphora.core.merge.patch import patch_of
from tests.conftest import Program
from tests.core.test_canon import JSON

TICKET = "flow:intake/weigh-ticket"


def edit(amphora: Program, place: str, item: str, *values: str) -> None:
    words = [word for value in values for word in ("--set", value)]
    assert amphora("practice", "edit", f"{place}.practice", item, *words).code == 0


def form(amphora: Program, package: str, key: str) -> Any:
    return amphora("peek", package, key, "--json").json["form"]


@pytest.fixture
def there(amphora: Program, halcyon: Path) -> Path:
    """olive-intake 1.0.0 is in grove-live."""
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    assert amphora("import", "olive-intake", "grove-live", "--yes").code == 0
    return halcyon


@given(JSON, JSON)
@example([0, {"a": [1]}], [0.0, {"a": [1.0]}])
def test_patches_give_the_other_side(left: Any, right: Any) -> None:
    left, right = {"x": left}, {"x": right}
    assert json.dumps(jsonpatch.apply_patch(left, patch_of(left, right)), sort_keys=True) == json.dumps(
        right, sort_keys=True
    )


def test_texts_are_merged_and_clashes_decided(amphora: Program, there: Path) -> None:
    body = "Dear grower,\\nwe have taken in {kilos} kg of {variety}.\\nSee all your deliveries at https://%s.halcyon.example/portal\\n"
    edit(amphora, "grove-live", "Weigh slip", f'/body="{body % "www" + "Yours, the mill"}"')
    edit(amphora, "grove-dev", "Weigh slip", f'/body="{(body % "dev").replace("Dear", "Good day,")}"')
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=2")
    edit(amphora, "grove-dev", "Weigh ticket", "/steps/1/copies=5")
    assert amphora("export", "olive-intake").code == 0
    name = "live.docket.yaml"
    done = amphora("compare", "olive-intake", "grove-live", "--docket", name, "--json")
    changes = {c["place"]: c["by"] for a in done.json["actions"] for c in a["changes"]}
    assert changes == {"/body": "both, in different lines", "/steps/print/copies": "both, differently"}
    assert amphora("import", name, "--yes").code == 3
    path = there / name
    path.write_text(
        path.read_text()
        .replace('choice: "?"', "choice: package")
        .replace("choice: '?'", "choice: package")
        .replace("choice: ?", "choice: package")
    )
    assert amphora("import", name, "--yes").code == 0
    got = amphora("export", "grove-live", "Weigh slip", "Weigh ticket", "--as", "live-now")
    assert got.code == 0
    assert form(amphora, "live-now", "letter-template:office/weigh-slip")["body"].startswith("Good day, grower")
    assert form(amphora, "live-now", "letter-template:office/weigh-slip")["body"].endswith("Yours, the mill")
    steps = {step["id"]: step for step in form(amphora, "live-now", TICKET)["steps"]}
    assert steps["print"]["copies"] == 5


def test_decisions_are_made_at_a_terminal_and_survive_a_refresh(amphora: Program, there: Path) -> None:
    for value, place in ((2, "grove-live"), (5, "grove-dev")):
        edit(amphora, place, "Weigh ticket", f"/steps/1/copies={value}", f'/starts_on/event="e{value}"')
    assert amphora("export", "olive-intake").code == 0
    assert amphora("compare", "olive-intake", "grove-live", "--decide").code == 3
    command = [
        sys.executable,
        "-m",
        "amphora",
        "compare",
        "olive-intake",
        "grove-live",
        "--decide",
        "--docket",
        "d.docket.yaml",
    ]
    main, worker = pty.openpty()
    process = subprocess.Popen(command, cwd=there, stdin=worker, stdout=subprocess.PIPE, stderr=worker)
    os.close(worker)
    os.write(main, b"t\nb\np\nx\nt\n")
    assert process.stdout is not None
    out = process.stdout.read().decode()
    process.stdout.close()
    assert process.wait() == 1, out
    os.close(main)
    text = (there / "d.docket.yaml").read_text()
    assert re.findall(r"choice: (\w+)", text.split("no_longer_packed")[0]) == ["package", "target"]
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=7")
    stale = amphora("import", "d.docket.yaml", "--yes")
    assert (stale.code, "amphora compare --refresh d.docket.yaml" in stale.err) == (3, True)
    fresh = amphora("compare", "--refresh", "d.docket.yaml")
    assert fresh.verdict.startswith("d.docket.yaml is up to date, 1 decision kept.")
    assert "Decided before, and to be decided anew" in fresh.out


def test_what_is_dropped_is_listed_and_retired_only_with_consent(amphora: Program, there: Path) -> None:
    wanted = ("Harvest Intake", "Press log", "Press yield")
    given = ("--set", "mill-db-dev=mill-main", "--accept")
    assert amphora("export", "grove-dev", *wanted, "--as", "olive-intake", "--with", "records").code == 0
    amphora("map", "olive-intake", "grove-live", *given)
    assert amphora("import", "olive-intake", "grove-live", "--yes", "--with", "records").code == 0
    dropped = amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake", "--leave-out", "Press log")
    assert (
        "No longer in it: table:mill/press-log; the next import into grove-live lists it for retirement"
        in dropped.out
    )
    listed = amphora("compare", "olive-intake", "grove-live", "--json").json["no_longer_packed"]
    by_key = {row["key"]: row for row in listed}
    assert by_key["table:mill/press-log"]["rows"] == 2210
    assert by_key["table:mill/press-log"]["used_by"] == ["report:mill/press-yield"]
    found = {f["rule"] for f in amphora("check", "olive-intake", "grove-live", "--json").json["findings"]}
    assert {"would-retire"} <= found
    blocked = amphora("import", "olive-intake", "grove-live", "--yes", "--retire", "Press log")
    assert (blocked.code, "is still used" in blocked.err) == (3, True)
    gone = amphora(
        "import",
        "olive-intake",
        "grove-live",
        "--yes",
        "--retire",
        "Press log",
        "--retire",
        "Press yield",
        "--let-go",
        "Press lines",
    )
    assert gone.code == 0, gone.err
    run = re.search(r"Run (grove-live-\d+)", gone.out)
    assert run
    kept = there / "runs" / run[1] / "table%3Amill%2Fpress-log.jsonl"
    assert len(kept.read_text().splitlines()) == 2210
    keys = {row["key"] for row in amphora("survey", "grove-live", "--json").json["items"]}
    assert "table:mill/press-log" not in keys
    assert "value-list:mill/press-lines" in keys
    assert amphora("compare", "olive-intake", "grove-live", "--json").json["no_longer_packed"] == []
    before = amphora("survey", "grove-live", "--json").json["items"]
    undone = amphora("undo", "last", "--yes", "--json").json
    assert undone["as_before"]
    assert set(undone["new_links"]) == {"table:mill/press-log", "report:mill/press-yield"}
    again = {row["key"]: row for row in amphora("survey", "grove-live", "--json").json["items"]}
    assert again["table:mill/press-log"]["rows"] == 2210
    assert again.keys() - {row["key"] for row in before} == set(undone["new_links"])
    claims = amphora("deliveries", "grove-live", "Press lines", "--json").json["claims"]
    assert [claim["package"] for claim in claims] == ["olive-intake"]
    assert amphora("compare", "olive-intake", "grove-live", "--json").json["no_longer_packed"] == listed


def test_a_package_can_stand_in_for_what_nobody_remembers(amphora: Program, there: Path) -> None:
    (there / "ledger.sqlite").unlink()
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=2")
    plain = amphora("compare", "olive-intake", "grove-live")
    assert "unknown origin" in plain.out
    told = amphora("compare", "olive-intake", "grove-live", "--since", "olive-intake-1.0.0", "--json").json
    assert [(c["place"], c["by"]) for a in told["actions"] for c in a["changes"]] == [
        ("/steps/print/copies", "target")
    ]
    amphora("compare", "olive-intake", "grove-live", "--since", "olive-intake-1.0.0", "--docket", "s.docket.yaml")
    done = amphora("import", "s.docket.yaml", "--yes")
    assert (done.code, done.verdict) == (0, "Nothing to do: grove-live has olive-intake 1.0.0; 1 local edit stays.")
    assert amphora("compare", "--refresh", "s.docket.yaml").code == 0


class Links(HTMLParser):
    """Whatever a page would load from elsewhere."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found += [str(value) for name, value in attrs if name in ("src", "href")]


def test_a_comparison_is_handed_on(amphora: Program, there: Path) -> None:
    edit(amphora, "grove-live", "Weigh ticket", '/steps/0/script="<b>a</b>\\nb\\n"')
    edit(amphora, "grove-dev", "Weigh ticket", '/steps/0/script="a\\nc\\n"')
    assert amphora("export", "olive-intake").code == 0
    done = amphora("compare", "olive-intake", "grove-live", "--html", "review.html", "--md")
    assert done.out.startswith("# olive-intake 1.0.1 into grove-live\n")
    page = (there / "review.html").read_text()
    parser = Links()
    parser.feed(page)
    assert parser.found == []
    assert "&lt;b&gt;a&lt;/b&gt;" in page
    assert "<b>a" not in page
    beside = amphora("compare", "olive-intake", "grove-live", "Weigh ticket", "--side-by-side")
    assert "≠" in beside.out
    assert amphora("compare", "olive-intake", "grove-live", "--only", "edited", "--json").code == 3
    assert amphora("compare", "olive-intake", "grove-live", "--only", "colours").code == 2


def test_an_item_can_be_left_out_of_an_import(amphora: Program, halcyon: Path) -> None:
    assert amphora("export", "grove-dev", "Weigh slip", "Olive varieties", "--as", "bits").code == 0
    assert amphora("compare", "bits", "grove-live", "--docket", "b.docket.yaml").code == 1
    path = halcyon / "b.docket.yaml"
    path.write_text(
        path.read_text().replace(
            "  value-list:intake/olive-varieties:\n", "  value-list:intake/olive-varieties:\n    choice: leave\n"
        )
    )
    assert amphora("import", "b.docket.yaml", "--yes", "--retire", "x").code == 2
    done = amphora("import", "b.docket.yaml", "--yes")
    assert done.code == 0, done.err
    keys = {row["key"] for row in amphora("survey", "grove-live", "--json").json["items"]}
    assert "letter-template:office/weigh-slip" in keys
    assert "value-list:intake/olive-varieties" not in keys
