"""Parcels: the packages of runs that wait, so that whoever has the ledger can go on with them."""

from __future__ import annotations

from pathlib import Path

from amphora.ledger.database import Database
from amphora.ledger.records import OPEN, OPEN_STATES, PAUSED

PIECE_BYTES = 1 << 20
"""So much is held in memory at once, whatever the package's size."""


class Parcels:
    """Package files in a ledger, by package digest; several runs share one."""

    def __init__(self, db: Database) -> None:
        self._db = db

    def put(self, digest: str, path: Path) -> None:
        """Keeps a package file."""
        with self._db.transaction(), path.open("rb") as file:
            if self._db.rows("select 1 from parcels where digest = ? limit 1", (digest,)):
                return
            number = 0
            while piece := file.read(PIECE_BYTES):
                self._db.do("insert into parcels values (?, ?, ?)", (digest, number, piece))
                number += 1

    def take(self, digest: str, path: Path) -> bool:
        """Writes a package that was kept to a file; whether one of this digest is kept."""
        count = 0
        with path.open("wb") as file:
            for row in self._db.each("select piece from parcels where digest = ? order by number", (digest,)):
                file.write(row["piece"])
                count += 1
        return count > 0

    def drop_unused(self) -> None:
        """Forgets the packages that no run and no campaign waits for. Inside the caller's transaction."""
        waiting = (*OPEN_STATES, PAUSED)
        marks = ",".join("?" * len(waiting))
        query = f"delete from parcels where digest not in (select package_digest from runs where state in ({marks}))"
        query += " and digest not in (select package_digest from campaigns where state = ?)"
        self._db.do(query, (*waiting, OPEN))
