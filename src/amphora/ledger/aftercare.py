"""Aftercare in the ledger: what has to follow each run, and who has done it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from amphora.core.plan.aftercare import Care, Task
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.next_step import to_type
from amphora.ledger.database import Database
from amphora.ledger.records import DONE, NO_LONGER_THERE, NOT_NEEDED, OPEN, PAUSED, Entry, Run

_JOINED = (
    "select a.*, r.name as run, r.environment, r.uid, r.package, r.version from aftercare a"
    " join runs r on r.id = a.run_id"
)
_QUERY = f"{_JOINED} where r.state in (?, ?)"
"""Of runs that are in force: what an undone one asked for is moot."""


class Aftercare:
    """The tasks of a ledger. They are numbered through all runs, so that a number says which one is meant."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def write(self, run: Run, tasks: Sequence[Task]) -> None:
        """Adds tasks to a run, but for those that are open already for its target. Inside the caller's
        transaction."""
        # Of all runs into it: that a secret is missing was said by the first one, and holds for the second.
        known = self._entries(" and r.uid = ?", (run.uid,)) + self._mine(run)
        there = {entry.task.matter for entry in known if entry.state == OPEN}
        for task in tasks:
            if task.matter in there:
                continue
            there.add(task.matter)
            row = (run.id, task.kind.value, task.key, task.name, task.words, task.link, task.who, OPEN)
            self._db.insert(
                "insert into aftercare (run_id, kind, key, name, words, link, who, state)"
                " values (?, ?, ?, ?, ?, ?, ?, ?)",
                row,
            )
        # Without tasks as well: nothing to do, and nobody has looked yet, are two things.
        self._db.do("update runs set cared = 1 where id = ?", (run.id,))

    def add(self, run: Run, tasks: Sequence[Task]) -> None:
        """The same, by itself."""
        with self._db.transaction():
            self.write(run, tasks)

    def of_run(self, run: Run) -> list[Entry]:
        """All tasks of a run, in order."""
        return self._entries(" and r.id = ?", (run.id,))

    def open(self, uid: str = "") -> list[Entry]:
        """What is open, for one environment or all of them, the earliest first."""
        where, values = (" and a.state = ?", (OPEN,)) if not uid else (" and a.state = ? and r.uid = ?", (OPEN, uid))
        return self._entries(where, values)

    def entry(self, number: int) -> Entry:
        """One task; UsageFault where there is none of this number."""
        found = self._entries(" and a.id = ?", (number,))
        if not found:
            raise UsageFault(
                f"There is no aftercare number {number}.", subject=str(number), next_step=to_type("aftercare")
            )
        return found[0]

    def settle(self, numbers: Sequence[int], state: str, by: str, note: str = "", run: Run | None = None) -> None:
        """Closes tasks that are open, in somebody's name, or because `run` did them."""
        # Only what is open: of two who tick it at the same time the second must not take the first one's name.
        done_by = run.id if run else None
        with self._db.transaction():
            self._db.do_many(
                "update aftercare set state = ?, by_whom = ?, note = ?, at = ?, done_by = ?"
                " where id = ? and state = ?",
                [(state, by, note, self._clock(), done_by, number, OPEN) for number in numbers],
            )

    def move(self, uid: str, links: Mapping[Key, str]) -> None:
        """Items of an environment that were made again are elsewhere now: open tasks on them say so."""
        with self._db.transaction():
            self._db.do_many(
                "update aftercare set link = ? where key = ? and state = ? and run_id in (select id from runs where"
                " uid = ?)",
                [(link, key, OPEN, uid) for key, link in links.items()],
            )

    def moot(self, run: Run, keys: Collection[Key]) -> None:
        """Closes what is open about items that a run retired. Inside the caller's transaction."""
        # In its name, so that undoing it opens them again.
        query = (
            "update aftercare set state = ?, by_whom = ?, note = ?, at = ?, done_by = ? where key = ? and state = ?"
            " and run_id in (select id from runs where uid = ?)"
        )
        values = (NOT_NEEDED, run.account, NO_LONGER_THERE, self._clock(), run.id)
        self._db.do_many(query, [(*values, key, OPEN, run.uid) for key in keys])

    def reopen(self, run: Run) -> None:
        """What a run did is to be done again, for it was put back. Inside the caller's transaction."""
        query = "update aftercare set state = ?, by_whom = '', note = '', at = '', done_by = null where done_by = ?"
        self._db.do(query, (OPEN, run.id))

    def _mine(self, run: Run) -> list[Entry]:
        """What an earlier leg of a run asked for, which is in the middle of the next one."""
        return _entries_of(self._db.rows(f"{_JOINED} where r.id = ? order by a.id", (run.id,)))

    def _entries(self, where: str, values: tuple[Any, ...]) -> list[Entry]:
        return _entries_of(self._db.rows(f"{_QUERY}{where} order by a.id", (DONE, PAUSED, *values)))


def _entries_of(rows: Sequence[Any]) -> list[Entry]:
    return [
        Entry(
            row["id"],
            row["run"],
            row["environment"],
            row["uid"],
            row["package"],
            row["version"],
            Task(Care(row["kind"]), row["key"], row["words"], row["name"], row["link"], row["who"]),
            row["state"],
            row["by_whom"],
            row["note"],
            row["at"],
        )
        for row in rows
    ]
