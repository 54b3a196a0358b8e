"""A ledger taken over into another database, row by row, counted and compared before anything is final."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from typing import Any

import orjson

from amphora.core.values.errors import LedgerTrouble, UsageFault
from amphora.core.values.next_step import advice
from amphora.ledger.database import MOVED, PORTION, Database

TABLES = (
    "facts",
    "exports",
    "exported",
    "links",
    "runs",
    "steps",
    "deliveries",
    "claims",
    "touched",
    "legs",
    "arrivals",
    "parcels",
    "kind_sheets",
    "campaigns",
    "omissions",
    "aftercare",
    "proofs",
)
"""Every table but the locks, which end with whoever holds them; what is referred to before what refers to it."""

NUMBERED = ("exports", "runs", "deliveries", "campaigns", "aftercare", "proofs")
"""Tables that number their rows by themselves."""


def take_over(source: Database, goal: Database) -> dict[str, int]:
    """Copies everything into an empty ledger, and gives the number of rows by table. UsageFault where the other one
    holds something already; LedgerTrouble, with nothing kept there, where a table did not arrive as it was."""
    counts = {}
    # Nobody writes to either while it goes on; and all of it is one transaction of the goal: half a ledger would be
    # taken for a whole one.
    with source.transaction(), goal.transaction():
        for table in TABLES[1:]:
            if goal.rows(f"select 1 from {table} limit 1"):
                raise UsageFault(
                    f"{goal.place} holds a ledger already: two can't become one.",
                    subject=goal.place,
                    next_step=advice("Take an empty database; or write that address as ledger into amphora.toml."),
                )
        goal.do("delete from facts")
        for table in TABLES:
            names = source.columns(table)
            counts[table] = _copy(source, goal, table, names)
            if _mark(source, table, names) != _mark(goal, table, names):
                raise LedgerTrouble(
                    f"{table} did not arrive in {goal.place} as it was; nothing was kept there.",
                    subject=goal.place,
                    next_step=advice("Run the same command again; the ledger is where it was."),
                )
        for table in NUMBERED:
            goal.number_from(table)
    source.do("insert into facts values (?, ?)", (MOVED, goal.place))
    return counts


def _copy(source: Database, goal: Database, table: str, names: Sequence[str]) -> int:
    columns = ", ".join(f'"{name}"' for name in names)
    statement = f"insert into {table} ({columns}) values ({', '.join('?' * len(names))})"
    count = 0
    portion: list[tuple[Any, ...]] = []
    for row in source.each(f"select {columns} from {table}"):
        portion.append(tuple(row))
        count += 1
        if len(portion) == PORTION:
            goal.do_many(statement, portion)
            portion = []
    goal.do_many(statement, portion)
    return count


def _mark(database: Database, table: str, names: Sequence[str]) -> tuple[int, int]:
    """How many rows, and a sum over their digests: the same whatever order a database gives them in."""
    columns = ", ".join(f'"{name}"' for name in names)
    total = count = 0
    for row in database.each(f"select {columns} from {table}"):
        total = (total + int.from_bytes(hashlib.sha256(b"\0".join(_parts(row))).digest())) % (1 << 256)
        count += 1
    return count, total


def _parts(row: Any) -> Iterator[bytes]:
    for value in row:
        yield bytes(value) if isinstance(value, bytes | memoryview) else orjson.dumps(value)
