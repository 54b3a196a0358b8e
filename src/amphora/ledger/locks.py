"""Locks: one run at a time may change a target, whoever starts it."""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from amphora.core.values.errors import LedgerTrouble, Unavailable
from amphora.core.values.next_step import advice
from amphora.ledger.database import Database


class Locks:
    """The locks of a ledger. A lock whose process is gone holds nobody up."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    @contextmanager
    def held(self, uid: str, name: str, holder: str, purpose: str) -> Iterator[None]:
        """Holds an environment while something is done to it; Unavailable names who does so already."""
        self._take(uid, name, holder, purpose)
        try:
            yield
        finally:
            try:
                # Only our own: by the time we end somebody may have taken it over.
                mine = (uid, socket.gethostname(), os.getpid())
                self._db.do("delete from locks where uid = ? and host = ? and process = ?", mine)
            except LedgerTrouble:
                pass  # it ends with this process: the next one sees that nobody is behind it

    def refuse_held(self, uid: str, name: str) -> None:
        """Unavailable, where somebody is changing an environment just now."""
        rows = self._db.rows("select * from locks where uid = ?", (uid,))
        if rows and _is_alive(rows[0]["host"], rows[0]["process"], rows[0]["began"]):
            row = rows[0]
            raise Unavailable(
                f"{name} is being changed just now: {row['purpose']}, by {row['holder']} on {row['host']} since"
                f" {row['since']}. Nothing was touched.",
                subject=name,
                next_step=advice("Wait until that is done, then run the same command again."),
            )

    def _take(self, uid: str, name: str, holder: str, purpose: str) -> None:
        with self._db.transaction():
            self.refuse_held(uid, name)
            # Nobody is behind it: left over from a process that was killed.
            self._db.do("delete from locks where uid = ?", (uid,))
            mine = (uid, holder, socket.gethostname(), os.getpid(), _began(os.getpid()), self._clock(), purpose)
            self._db.do("insert into locks values (?, ?, ?, ?, ?, ?, ?)", mine)


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
