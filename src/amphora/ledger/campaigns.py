"""Campaigns: imports into many targets, so that whoever has the ledger can bring what remains."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from amphora.core.values.model import Json
from amphora.ledger.database import Database, dumped
from amphora.ledger.records import OPEN, Campaign

PREFIX = "many-"


class Campaigns:
    """The campaigns of a ledger, named `many-1`, `many-2` …; their runs bear that name."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def begin(
        self, package: str, version: str, source_uid: str, package_digest: str, account: str, request: Json
    ) -> Campaign:
        """A new one."""
        with self._db.transaction():
            count = int(self._db.rows("select count(*) from campaigns")[0][0])
            name = f"{PREFIX}{count + 1}"
            row = (name, package, version, source_uid, package_digest, account, self._clock(), OPEN, dumped(request))
            self._db.insert(
                "insert into campaigns (name, package, version, source_uid, package_digest, account, started_at,"
                " state, request) values (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                row,
            )
        found = self.named(name)
        assert found is not None
        return found

    def rename(self, old: str, name: str) -> None:
        """A target is called something else. Inside the caller's transaction."""
        for row in self._db.rows("select id, request from campaigns"):
            request = json.loads(row["request"])
            request["rounds"] = [[name if one == old else one for one in names] for names in request["rounds"]]
            self._db.do("update campaigns set request = ? where id = ?", (dumped(request), row["id"]))

    def named(self, name: str) -> Campaign | None:
        """The campaign of this name."""
        rows = self._db.rows("select * from campaigns where name = ?", (name,))
        return _campaign(rows[0]) if rows else None

    def open(self) -> list[Campaign]:
        """Those that are not done in all their targets, the latest first."""
        rows = self._db.rows("select * from campaigns where state = ? order by id desc", (OPEN,))
        return [_campaign(row) for row in rows]

    def end(self, name: str, state: str) -> None:
        """Closes one with its state."""
        with self._db.transaction():
            self._db.do("update campaigns set state = ? where name = ?", (state, name))


def _campaign(row: Any) -> Campaign:
    table = {name: value for name, value in dict(row).items() if name != "id"}
    return Campaign(**{**table, "request": json.loads(table["request"])})
