"""The database under the ledger: one connection, transactions, and its errors in our words.

The standard library's driver: opening a ledger with it takes two milliseconds, with a mapping library three
hundred (docs/decisions.md).
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import orjson

from amphora.core.values.errors import LedgerTrouble, UsageFault
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.ledger.migrations import MIGRATIONS, migrate, version_of

BUSY_S = 5.0
"""How long another process may hold the ledger before we give up."""

PORTION = 500
"""How many rows are asked for or written at once."""


class Database:
    """An open SQLite file, durable: what was committed survives a power cut."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            # No implicit transactions: what is one stands in one `with`, and nothing else is.
            self._db = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None)
            self._db.row_factory = sqlite3.Row
            with self._translated():
                # Readers go on while a run writes: `history` answers during an import.
                self._db.execute("pragma journal_mode = wal")
                # In WAL mode the default would lose the last commits in a power cut: exactly the intents that
                # recovery needs.
                self._db.execute("pragma synchronous = full")
                self._is_awaiting = True
                self._db.execute("pragma foreign_keys = on")
                version = version_of(self._db)
                if version < len(MIGRATIONS):
                    with self.transaction():
                        # Asked once more inside the transaction: two processes may open an old ledger at once.
                        migrate(self._db, version_of(self._db))
        except sqlite3.Error as error:
            raise UsageFault(
                f"The ledger {path} can't be read: {error}.",
                subject=str(path),
                next_step=advice("Put it back from a backup; it remembers what was delivered where."),
            ) from error
        if version > len(MIGRATIONS):
            self._db.close()
            raise UsageFault(
                f"The ledger {path} was written by a newer Amphora (tables {version}, this one knows"
                f" {len(MIGRATIONS)}).",
                subject=str(path),
                next_step=advice("Use that Amphora, or a newer one."),
            )

    def close(self) -> None:
        """Closes the file."""
        self._db.close()

    def rows(self, query: str, values: Sequence[Any] = ()) -> list[sqlite3.Row]:
        """All rows of a query."""
        with self._translated():
            return self._db.execute(query, values).fetchall()

    def each(self, query: str, values: Sequence[Any] = ()) -> Iterator[sqlite3.Row]:
        """The rows of a query, one by one, for what may be large."""
        with self._translated():
            yield from self._db.execute(query, values)

    def rows_for(self, query: str, values: Sequence[Any], wanted: Iterable[str]) -> Iterator[sqlite3.Row]:
        """The rows of a query that ends in `in (…)`, for these values, asked for in portions."""
        names = sorted(wanted)
        for start in range(0, len(names), PORTION):
            some = names[start : start + PORTION]
            marks = ",".join("?" * len(some))
            yield from self.rows(query.replace("in (…)", f"in ({marks})"), [*values, *some])

    def do(self, statement: str, values: Sequence[Any] = (), is_awaited: bool = True) -> int:
        """One statement, by itself or in the transaction that is open; gives the id of the row that it made, if it
        made one. For `is_awaited` see `transaction`."""
        with self._translated():
            self._await_disk(is_awaited)
            return int(self._db.execute(statement, values).lastrowid or 0)

    def do_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        """One statement for many rows, in the transaction that is open."""
        with self._translated():
            self._db.executemany(statement, rows)

    @contextmanager
    def transaction(self, is_awaited: bool = True) -> Iterator[None]:
        """All of it, or nothing. Begun at once for writing: two writers wait for each other instead of
        finding out at the end. One that is not awaited survives the end of the process, but a power cut only with
        the next one that is."""
        with self._translated():
            self._await_disk(is_awaited)
            self._db.execute("begin immediate")
        try:
            yield
            with self._translated():
                self._db.execute("commit")
        except BaseException:
            # A failed commit leaves the transaction open: it must not swallow the next one.
            if self._db.in_transaction:
                self._db.execute("rollback")
            raise

    def _await_disk(self, is_awaited: bool) -> None:
        # Can't be changed inside a transaction; what stands in one waits as that does.
        if is_awaited is not self._is_awaiting and not self._db.in_transaction:
            self._db.execute(f"pragma synchronous = {'full' if is_awaited else 'normal'}")
            self._is_awaiting = is_awaited

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except (sqlite3.OperationalError, sqlite3.IntegrityError) as error:
            raise LedgerTrouble(
                f"The ledger {self.path} can't be used just now: {error}.",
                subject=str(self.path),
                next_step=advice(
                    "Wait for whoever uses it, or make room on the disk; then run the same command again."
                ),
            ) from error


def dumped(value: Json) -> str:
    """A value as the ledger keeps it."""
    try:
        return orjson.dumps(value, option=orjson.OPT_SORT_KEYS).decode()
    # Integers beyond 64 bit and lone surrogates, which definitions may hold.
    except TypeError:
        return json.dumps(value, ensure_ascii=False, sort_keys=True)
