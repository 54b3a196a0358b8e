"""What earlier builds wrote can still be read."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from amphora.files.package import read_package
from tests.conftest import Program

GOLDEN = Path(__file__).with_name("format-1.0.amphora")


def test_a_package_of_format_1_0_is_read_as_it_was() -> None:
    contents = read_package(GOLDEN)
    assert (contents.title, len(contents.items), contents.format_minor) == ("olive-intake 1.2.0", 11, 0)
    assert contents.digest().startswith("0c9e109a44503d6e")
    assert (contents.source_release, contents.bases) == ("", {})


def test_older_environments_and_ledgers_are_brought_up_to_date(amphora: Program, halcyon: Path) -> None:
    assert amphora("export", "grove-dev", "Weigh slip", "--as", "slip").code == 0
    with closing(sqlite3.connect(halcyon / "grove-dev.practice")) as db:
        db.execute("alter table supplies drop column objects")
        db.execute("delete from meta where name in ('release', 'schemas', 'limits')")
        db.commit()
    with closing(sqlite3.connect(halcyon / "ledger.sqlite")) as db:
        db.execute("alter table exports drop column layout_digest")
        db.commit()
    assert amphora("export", "slip").verdict.startswith("Nothing changed since slip 1.0.0")
    assert amphora("env", "test", "grove-dev").code == 0
