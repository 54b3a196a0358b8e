"""When a target was looked at, and what that came to."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import field
from typing import Any

from amphora.core.values.late import dataclass
from amphora.ledger.database import Database, dumped
from amphora.ledger.records import Run


@dataclass(frozen=True)
class Proved:
    """One verification: of which package and version, of one run or of all that is in force; how many items were
    looked at, and what was not as promised, each with the reason. `at` is given by the ledger."""

    uid: str
    run: int | None
    package: str
    version: str
    account: str
    items: int
    wrong: Mapping[str, str] = field(default_factory=dict)
    at: str = ""


class Proofs:
    """The verifications of a ledger."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def record(self, one: Proved) -> None:
        """Remembers one."""
        row = (self._clock(), one.uid, one.run, one.package, one.version, one.account, one.items)
        with self._db.transaction():
            self._db.insert(
                "insert into proofs (at, uid, run_id, package, version, account, items, wrong)"
                " values (?, ?, ?, ?, ?, ?, ?, ?)",
                (*row, dumped(dict(one.wrong))),
            )

    def of_run(self, run: Run) -> list[Proved]:
        """Those of one run, the first one first."""
        rows = self._db.rows("select * from proofs where run_id = ? order by id", (run.id,))
        return [_proved(row) for row in rows]

    def wrong(self) -> dict[int, int]:
        """How many items were not as promised when a run was last verified, by the run's id."""
        rows = self._db.rows("select run_id, wrong from proofs where run_id is not null order by id")
        return {row["run_id"]: len(json.loads(row["wrong"])) for row in rows}

    def latest(self) -> dict[tuple[str, str], Proved]:
        """The latest of each package in each environment, by uid and package."""
        query = "select * from proofs where id in (select max(id) from proofs group by uid, package)"
        return {(row["uid"], row["package"]): _proved(row) for row in self._db.rows(query)}


def _proved(row: Any) -> Proved:
    return Proved(
        row["uid"],
        row["run_id"],
        row["package"],
        row["version"],
        row["account"],
        row["items"],
        json.loads(row["wrong"]),
        row["at"],
    )
