"""Locks: one run at a time may change a target, whoever starts it, and on whatever machine."""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from amphora.core.values.errors import LedgerTrouble, Unavailable
from amphora.core.values.next_step import advice
from amphora.ledger.database import Database

LEASE_S = 600
"""A lock that nobody has renewed for so long is stale: whoever held it is gone, or nobody can tell."""

LOOK_S = 0.5
"""How often somebody who waits looks again."""


class Locks:
    """The locks of a ledger. One whose process is gone holds nobody up; of another machine nobody can tell that, so
    there a lock is a lease, renewed while its run goes on, and a stale one is broken by whoever `breaks` it
    knowingly. `patience_s` is how long to wait for a lock."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock
        self.patience_s = 0.0
        self.breaks = False

    @contextmanager
    def held(self, uid: str, name: str, holder: str, purpose: str) -> Iterator[None]:
        """Holds an environment while something is done to it; Unavailable names who does so already."""
        self._patiently(lambda: self._take(uid, name, holder, purpose))
        try:
            yield
        finally:
            try:
                # Only our own: by the time we end somebody may have taken it over.
                mine = (uid, socket.gethostname(), os.getpid())
                self._db.do("delete from locks where uid = ? and host = ? and process = ?", mine)
            except LedgerTrouble:
                pass  # it ends with this process: the next one sees that nobody is behind it

    def renew(self, uid: str) -> None:
        """Says that whoever holds an environment is still at work."""
        mine = (self._clock(), uid, socket.gethostname(), os.getpid())
        query = "update locks set renewed = ? where uid = ? and host = ? and process = ?"
        self._db.do(query, mine, is_awaited=False)

    def refuse_held(self, uid: str, name: str) -> None:
        """Unavailable, where somebody is changing an environment just now."""
        rows = self._db.rows("select * from locks where uid = ?", (uid,))
        if rows and self._holds(rows[0]):
            row = rows[0]
            stale = self._is_stale(row)
            words = f", and was last heard of at {row['renewed']}" if stale else ""
            after = advice("Wait until that is done (--wait MINUTES does), then run the same command again.")
            if stale:
                after = advice(f"Make sure that nothing runs on {row['host']} any more, then add --break-lock.")
            raise Unavailable(
                f"{name} is being changed just now: {row['purpose']}, by {row['holder']} on {row['host']} since"
                f" {row['since']}{words}. Nothing was touched.",
                subject=name,
                next_step=after,
            )

    def wait(self, uid: str, name: str) -> None:
        """Waits, as long as there is patience, until nobody is changing an environment: what is compared before that
        would be out of date by then. Without any it is not looked."""
        if self.patience_s:
            self._patiently(lambda: self.refuse_held(uid, name))

    def _patiently(self, attempt: Callable[[], None]) -> None:
        until = time.monotonic() + self.patience_s
        while True:
            try:
                attempt()
                return
            except Unavailable:
                if time.monotonic() >= until:
                    raise
            time.sleep(LOOK_S)

    def _take(self, uid: str, name: str, holder: str, purpose: str) -> None:
        with self._db.transaction():
            self.refuse_held(uid, name)
            # Nobody is behind it: left over from a process that was killed.
            self._db.do("delete from locks where uid = ?", (uid,))
            now = self._clock()
            mine = (uid, holder, socket.gethostname(), os.getpid(), _began(os.getpid()), now, purpose, now)
            self._db.do("insert into locks values (?, ?, ?, ?, ?, ?, ?, ?)", mine)

    def _holds(self, row: Any) -> bool:
        """Whether a lock still holds anybody up."""
        if not _is_alive(row["host"], row["process"], row["began"]):
            return False
        # Only what is stale: breaking the lock of a run that is at work would let two change one target.
        return not (self.breaks and self._is_stale(row))

    def _is_stale(self, row: Any) -> bool:
        if row["host"] == socket.gethostname():
            return False  # here one sees whether the process is there
        age = datetime.fromisoformat(self._clock()) - datetime.fromisoformat(row["renewed"] or row["since"])
        return age.total_seconds() > LEASE_S


def _is_alive(host: str, process: int, began: str) -> bool:
    """Whether the process behind a lock still runs. Of another machine nobody can tell: it counts as alive."""
    if host != socket.gethostname():
        return True
    if process == os.getpid():
        return False  # a lock of our own number is that of a process before us
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    # Numbers of processes come round again: the same number with another birth is somebody else.
    return not began or _began(process) == began


def _began(process: int) -> str:
    """When a process began, in ticks since the machine did; empty where the system doesn't say."""
    try:
        # Behind the last bracket: the name of the program stands in brackets and may hold anything (proc(5), field
        # 22).
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
