"""The database under the ledger: what every kind of one can do, and its errors in our words.

Two kinds: a file of one workspace (`sqlite`), and a team's server (`postgres`). Statements are written once, with
`?` for values, in what the two have in common.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol

from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.strict_json import compact_bytes
from amphora.ledger.migrations import MIGRATIONS, migrate, version_of

PORTION = 500
"""How many rows are asked for or written at once."""

MOVED = "moved"
"""The fact that says in a ledger that was taken over where it goes on: whoever waited for it must not write there."""

POSTGRESQL = ("postgresql://", "postgres://")


class Row(Protocol):
    """One row: its values by name and by position."""

    def __getitem__(self, name: Any) -> Any: ...

    def keys(self) -> Sequence[str]:
        """The names of its columns."""


class Database(ABC):
    """An open database, durable: what was committed survives a power cut."""

    place: str
    """Where it is, as it can be shown."""

    @abstractmethod
    def close(self) -> None:
        """Closes it."""

    @abstractmethod
    def rows(self, query: str, values: Sequence[Any] = ()) -> list[Any]:
        """All rows of a query; each a `Row`."""

    @abstractmethod
    def each(self, query: str, values: Sequence[Any] = ()) -> Iterator[Any]:
        """The rows of a query, one by one, for what may be large."""

    @abstractmethod
    def do(self, statement: str, values: Sequence[Any] = (), is_awaited: bool = True) -> None:
        """One statement, by itself or in the transaction that is open. For `is_awaited` see `transaction`."""

    @abstractmethod
    def do_many(self, statement: str, rows: Iterable[Sequence[Any]]) -> None:
        """One statement for many rows, in the transaction that is open."""

    @abstractmethod
    def transaction(self, is_awaited: bool = True) -> AbstractContextManager[None]:
        """All of it, or nothing. Begun at once for writing: two writers wait for each other instead of
        finding out at the end. One that is not awaited survives the end of the process, but a power cut only with
        the next one that is."""

    @abstractmethod
    def columns(self, table: str) -> Sequence[str]:
        """The names of a table's columns; none where there is no such table."""

    @abstractmethod
    def number_from(self, table: str) -> None:
        """Lets a table go on numbering after the highest number that is in it."""

    def insert(self, statement: str, values: Sequence[Any]) -> int:
        """One new row of a table that numbers them, in the transaction that is open; its number."""
        return int(self.rows(f"{statement} returning id", values)[0][0])

    def rows_for(self, query: str, values: Sequence[Any], wanted: Iterable[str]) -> Iterator[Any]:
        """The rows of a query whose last values are those of an `in (…)`, for these values, asked for in portions."""
        names = sorted(wanted)
        for start in range(0, len(names), PORTION):
            some = names[start : start + PORTION]
            marks = ",".join("?" * len(some))
            yield from self.rows(query.replace("in (…)", f"in ({marks})"), [*values, *some])

    def bring_up_to_date(self) -> None:
        """Takes the tables to the newest version; UsageFault where they are newer than that."""
        version = version_of(self)
        if version < len(MIGRATIONS):
            with self.transaction():
                # Asked once more inside the transaction: two processes may open an old ledger at once.
                migrate(self, version_of(self))
        if version > len(MIGRATIONS):
            self.close()
            raise UsageFault(
                f"The ledger {self.place} was written by a newer Amphora (tables {version}, this one knows"
                f" {len(MIGRATIONS)}).",
                subject=self.place,
                next_step=advice("Use that Amphora, or a newer one."),
            )


def open_database(place: Path | str, secret: str = "") -> Database:
    """The database at a place: a file, or a server's address. `secret` is the password for the latter."""
    # Loaded only where they are used: a driver for servers costs a tenth of a second.
    if isinstance(place, str) and place.startswith(POSTGRESQL):
        from amphora.ledger.postgres import PostgresDatabase

        return PostgresDatabase(place, secret)
    from amphora.ledger.sqlite import SqliteDatabase

    return SqliteDatabase(Path(place))


def dumped(value: Json) -> str:
    """A value as the ledger keeps it."""
    return compact_bytes(value).decode()


def next_seq(db: Database, count: int = 1) -> int:
    """The first of the next numbers in the one order of exports and deliveries: clocks of seconds can't tell them
    apart."""
    db.do("insert into facts values ('seq', '0') on conflict (name) do nothing")
    db.do("update facts set value = cast(cast(value as integer) + ? as text) where name = 'seq'", (count,))
    return int(db.rows("select value from facts where name = 'seq'")[0][0]) - count + 1
