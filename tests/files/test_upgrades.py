"""What earlier builds wrote can still be read."""

from __future__ import annotations

import gzip
import sqlite3
from contextlib import closing
from pathlib import Path

from amphora.files.package import read_package
from amphora.ledger.ledger import Ledger
from tests.conftest import Program

GOLDEN = Path(__file__).with_name("format-1.0.amphora")
LEDGER = Path(__file__).with_name("ledger-0.sqlite.gz")


def test_a_package_of_format_1_0_is_read_as_it_was() -> None:
    contents = read_package(GOLDEN)
    assert (contents.title, len(contents.items), contents.format_minor) == ("olive-intake 1.2.0", 11, 0)
    assert contents.digest().startswith("0c9e109a44503d6e")
    assert (contents.source_release, contents.bases) == ("", {})


def test_an_older_environment_is_brought_up_to_date(amphora: Program, halcyon: Path) -> None:
    with closing(sqlite3.connect(halcyon / "grove-dev.practice")) as db:
        db.execute("alter table supplies drop column objects")
        db.execute("delete from meta where name in ('release', 'schemas', 'limits')")
        db.commit()
    assert amphora("env", "test", "grove-dev").code == 0


def test_a_ledger_of_before_there_were_numbers_is_brought_up_to_date_with_all_that_is_in_it(
    amphora: Program, halcyon: Path
) -> None:
    path = halcyon / "ledger.sqlite"
    path.write_bytes(gzip.decompress(LEDGER.read_bytes()))
    ledger = Ledger(path, lambda: "2026-12-01T00:00:00Z")
    key = "value-list:intake/olive-varieties"
    assert [(run.name, run.state, run.kind) for run in ledger.journal.runs()] == [
        ("grove-live-2", "done", "import"),
        ("grove-live-1", "done", "import"),
    ]
    assert {(c.key, c.package) for c in ledger.claims("practice-grove-live")} == {
        (key, "slip"),
        (key, "lists"),
        ("letter-template:office/weigh-slip", "slip"),
    }
    assert [one.delivery.package for one in ledger.deliveries_of("practice-grove-live", key)] == ["lists", "slip"]
    exported = ledger.bases("practice-grove-dev", [key])
    assert exported[key].form == ledger.last_deliveries("practice-grove-live")[key].base.form
    ledger.close()
    refused = amphora("undo", "last", "--yes")
    assert (refused.code, "by an earlier build" in refused.err) == (3, True)
    assert amphora("history").verdict == "2 runs."
    with closing(sqlite3.connect(path)) as db:
        db.execute("update facts set value = '99' where name = 'schema'")
        db.commit()
    newer = amphora("history")
    assert (newer.code, "newer Amphora" in newer.err) == (2, True)


def test_a_ledger_of_before_aftercare_tells_what_it_knows(amphora: Program, halcyon: Path) -> None:
    (halcyon / "ledger.sqlite").write_bytes(gzip.decompress(LEDGER.with_name("ledger-5.sqlite.gz").read_bytes()))
    runs = amphora("history", "--json").json["runs"]
    # What followed from them nobody worked out: they are done, and nobody says complete.
    assert {run["name"]: run["state"] for run in runs if run["kind"] == "import"} == {
        "grove-live-1": "done",
        "grove-test-3": "undone",
        "grove-test-2": "done",
        "grove-test-1": "done",
    }
    told = amphora("history", "grove-test-2", "--html", "r.html", "--json").json
    assert (told["items"], told["aftercare"], [step["do"] for step in told["steps"]]) == (
        [],
        [],
        ["update", "publish"],
    )
    assert amphora("aftercare").verdict == "Nothing is left to do."
    found = amphora("overview", "--from-ledger", "--json").json["in_force"]
    assert {(one["package"], one["environment"], one["version"]) for one in found} == {
        ("slips", "grove-test", "1.0.1"),
        ("lists", "grove-live", "1.0.0"),
    }
    assert amphora("undo", "grove-live-1", "--preview").code in (0, 3)
