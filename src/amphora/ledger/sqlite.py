"""A ledger in a file, by the standard library's driver: opening one takes two milliseconds, with a mapping library
three hundred (docs/decisions.md)."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from amphora.core.values.errors import LedgerTrouble, UsageFault
from amphora.core.values.next_step import advice
from amphora.ledger.database import Database

BUSY_S = 5.0
"""How long another process may hold the ledger before we give up."""


class SqliteDatabase(Database):
    """An open SQLite file."""

    def __init__(self, path: Path) -> None:
        self.place = str(path)
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
            self.bring_up_to_date()
        except sqlite3.Error as error:
            raise UsageFault(
                f"The ledger {path} can't be read: {error}.",
                subject=str(path),
                next_step=advice("Put it back from a backup; it remembers what was delivered where."),
            ) from error

    def take_alone(self) -> None:
        """Lets nobody else into the file until it is closed; LedgerTrouble where somebody has it open. What lies
        beside it (its log) is in it with that, and gone."""
        with self._translated():
            self._db.execute("pragma locking_mode = exclusive")
            self._db.execute("pragma journal_mode = delete")

    def close(self) -> None:
        self._db.close()

    def rows(self, query: str, values: Sequence[Any] = ()) -> list[Any]:
        with self._translated():
            return self._db.execute(query, values).fetchall()

    def each(self, query: str, values: Sequence[Any] = ()) -> Iterator[Any]:
        with self._translated():
            yield from self._db.execute(query, values)

    def do(self, statement: str, values: Sequence[Any] = (), is_awaited: bool = True) -> None:
        with self._translated():
            self._await_disk(is_awaited)
            self._db.execute(statement, values)

    def do_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        with self._translated():
            self._db.executemany(statement, rows)

    @contextmanager
    def transaction(self, is_awaited: bool = True) -> Iterator[None]:
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

    def columns(self, table: str) -> Sequence[str]:
        return [row[1] for row in self.rows(f"pragma table_info({table})")]

    def number_from(self, table: str) -> None:
        # It does so by itself.
        pass

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
                f"The ledger {self.place} can't be used just now: {error}.",
                subject=self.place,
                next_step=advice(
                    "Wait for whoever uses it, or make room on the disk; then run the same command again."
                ),
            ) from error
