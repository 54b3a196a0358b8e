"""Ledgers of earlier releases, brought up to date when they are opened; nothing in them is lost."""

from __future__ import annotations

from sqlalchemy import Connection, inspect, text

ADDED = {"exports": {"layout_digest": "varchar not null default ''"}}
"""Columns that came later, by table, with what older rows hold there."""


def bring_up_to_date(db: Connection) -> None:
    """Adds the columns that an older ledger lacks."""
    for table, columns in ADDED.items():
        there = {column["name"] for column in inspect(db).get_columns(table)}
        for name in columns.keys() - there:
            db.execute(text(f"alter table {table} add column {name} {columns[name]}"))
