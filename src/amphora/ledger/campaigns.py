"""Campaigns: imports into many targets, so that whoever has the ledger can bring what remains."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection
from itertools import chain, count
from typing import Any

from amphora.core.values.model import Json
from amphora.ledger.database import Database, dumped
from amphora.ledger.records import OPEN, Campaign

PREFIX = "many-"


def free_name(wanted: str, known: Collection[str]) -> str:
    """The name, or the first of its kind that is free: `build-7`, `build-7.2`. Pipelines name a run after a build,
    and run a build again."""
    numbered = (f"{wanted}.{number}" for number in count(2))
    return next(name for name in chain([wanted], numbered) if name not in known)


class Campaigns:
    """The campaigns of a ledger, named as was asked for, or `many-1`, `many-2` …; their runs bear that name."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def begin(
        self,
        package: str,
        version: str,
        source_uid: str,
        package_digest: str,
        account: str,
        request: Json,
        wanted: str = "",
    ) -> Campaign:
        """A new one; a number follows the name that is wanted, where it is taken."""
        with self._db.transaction():
            known = self.names()
            name = free_name(wanted, known) if wanted else f"{PREFIX}{len(known) + 1}"
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
            for part in ("wanted", "uids"):
                said = request.get(part, {})
                request[part] = {name if one == old else one: value for one, value in said.items()}
            self._db.do("update campaigns set request = ? where id = ?", (dumped(request), row["id"]))

    def names(self) -> list[str]:
        """What all of them are called."""
        return [row["name"] for row in self._db.rows("select name from campaigns")]

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
