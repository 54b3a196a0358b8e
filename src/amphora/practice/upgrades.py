"""Simulated environments of earlier builds, brought up to date when they are opened."""

from __future__ import annotations

import sqlite3

from amphora.practice.items import FILE_TABLES

FACTS = {"release": "2026.2", "schemas": "{}", "limits": '{"items": {}, "item_bytes": null}'}
"""Facts that came later, with what holds for an environment that was made before."""


def bring_up_to_date(db: sqlite3.Connection) -> None:
    """Adds what an older file lacks; one that is no environment is left alone."""
    columns = [row[1] for row in db.execute("pragma table_info(supplies)")]
    if not columns:
        return
    if "objects" not in columns:
        db.execute("alter table supplies add column objects text")
    if not db.execute("select 1 from sqlite_master where name = 'files'").fetchone():
        db.executescript(FILE_TABLES)
    known = {row[0] for row in db.execute("select name from meta")}
    db.executemany("insert into meta values (?, ?)", [(n, v) for n, v in FACTS.items() if n not in known])
