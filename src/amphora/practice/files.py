"""The platform's attachments: beside the definitions that name them, kept as long as one does."""

from __future__ import annotations

import hashlib
import re
import secrets
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager

from amphora.core.values.raw import Raw, chunks_of
from amphora.practice.items import PlatformRefusal

_NAMED = re.compile("amphora:file:([0-9a-f]{64})")


class Files:
    """Attachments by their SHA-256."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def held(self, names: Iterable[str]) -> dict[str, int]:
        """Those of these that are there, with their sizes in bytes."""
        rows = (self._db.execute("select name, size from files where name = ?", (name,)).fetchone() for name in names)
        return {row["name"]: row["size"] for row in rows if row}

    def read(self, name: str) -> Iterator[bytes]:
        """One of them, in pieces."""
        row = self._db.execute("select pieces from files where name = ?", (name,)).fetchone()
        if row is None:
            raise PlatformRefusal("not-found", f"there is no attachment {name!r}")
        number, query = 0, "select body from pieces where file = ? and number = ?"
        # A query for each: one that stays open keeps everybody from writing as long as somebody reads.
        while piece := self._db.execute(query, (row["pieces"], number)).fetchone():
            yield piece["body"]
            number += 1

    def keep(self, name: str, content: Raw) -> None:
        """Takes one in; refused where its name is not its SHA-256."""
        under, total, size = secrets.token_hex(8), hashlib.sha256(), 0
        try:
            for number, piece in enumerate(chunks_of(content)):
                total.update(piece)
                size += len(piece)
                # Each by itself, and named only when all are there: others go on working while it comes.
                self._db.execute("insert into pieces values (?, ?, ?)", (under, number, piece))
            if total.hexdigest() != name:
                raise PlatformRefusal("invalid", f"what came as attachment {name!r} is something else")
            row = (name, size, under)
            count = self._db.execute("insert or ignore into files values (?, ?, ?)", row).rowcount
        except BaseException:
            self._db.execute("delete from pieces where file = ?", (under,))
            raise
        if not count:
            self._db.execute("delete from pieces where file = ?", (under,))

    def check(self, names: Iterable[str]) -> None:
        """Refuses a definition that names what is not there."""
        # Asked together, told one by one: the first that is missing is enough to refuse.
        wanted = list(names)
        held = self.held(wanted)
        for name in wanted:
            if name not in held:
                raise PlatformRefusal("dangling", f"there is no attachment {name!r}")

    @contextmanager
    def settling(self, ids: Iterable[str]) -> Iterator[None]:
        """Afterwards, what these items named before and no item names any more is forgotten."""
        if not self._db.execute("select 1 from files limit 1").fetchone():
            yield
            return
        query = "select coalesce(live, '') || coalesce(draft, '') as text from items where id = ?"
        texts = [row["text"] for id_ in ids if (row := self._db.execute(query, (id_,)).fetchone())]
        yield
        self._forget({name for text in texts for name in _NAMED.findall(text)})

    def _forget(self, names: Iterable[str]) -> None:
        for name in names:
            # Everybody's live versions and drafts: two items may show the same picture.
            query = "select 1 from items where instr(coalesce(live, '') || coalesce(draft, ''), ?) limit 1"
            if self._db.execute(query, (name,)).fetchone():
                continue
            row = self._db.execute("select pieces from files where name = ?", (name,)).fetchone()
            self._db.execute("delete from files where name = ?", (name,))
            self._db.execute("delete from pieces where file = ?", (row["pieces"] if row else "",))
