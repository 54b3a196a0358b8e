"""Exports in the ledger: which version of what was packed, and every form of it."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterator
from typing import Any

import orjson

from amphora.core.merge.compare import Base
from amphora.core.values.errors import NotReady
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, States
from amphora.core.values.next_step import advice
from amphora.ledger.database import PORTION, Database, dumped, next_seq
from amphora.ledger.records import Export


class Exports:
    """The exports of a ledger."""

    def __init__(self, db: Database, clock: Callable[[], str]) -> None:
        self._db = db
        self._clock = clock

    def of(self, package: str) -> list[Export]:
        """Those of a package, the latest last."""
        return [
            Export(
                r["at"],
                r["environment"],
                r["package"],
                r["version"],
                r["contents_digest"],
                r["package_digest"],
                r["file"],
                r["layout_digest"],
                r["uid"],
            )
            for r in self._db.rows("select * from exports where package = ? order by id", (package,))
        ]

    def versions(self) -> dict[tuple[str, str], set[str]]:
        """The versions that were exported, by package and source uid."""
        found: dict[tuple[str, str], set[str]] = {}
        for row in self._db.rows("select distinct package, uid, version from exports"):
            found.setdefault((row["package"], row["uid"]), set()).add(row["version"])
        return found

    def sources(self) -> dict[str, str]:
        """The names of the environments from which something was exported, by uid."""
        return {
            row["uid"]: row["environment"]
            for row in self._db.rows("select uid, environment from exports order by id")
        }

    def forms(self, uid: str, keys: Collection[Key]) -> dict[Key, tuple[int, Base]]:
        """The form and states in which each of these items of an environment was last exported, with a number
        that orders exports and deliveries."""
        # The latest of each item, not of the package: every version may hold another choice of them.
        # Grouped, and not asked for each: for that every key would walk through all that was ever exported.
        query = (
            'select e.key, e.form, e.states, e."schema", x.seq from exported e join exports x on x.id = e.export_id'
            " join (select max(f.export_id) as latest, f.key as item from exports y join exported f"
            " on f.export_id = y.id where y.uid = ? and f.key in (…) group by f.key) m"
            " on m.latest = e.export_id and m.item = e.key"
        )
        return {
            row["key"]: (
                row["seq"],
                Base(orjson.loads(row["form"]), States.from_json(json.loads(row["states"])), {}, row["schema"]),
            )
            for row in self._db.rows_for(query, (uid,), keys)
        }

    def version(self, package: str, version: str) -> Iterator[tuple[Key, bytes, States]]:
        """The items of one version, one by one: their forms as they were written, and their states."""
        query = (
            "select e.key, e.form, e.states from exported e join exports x on x.id = e.export_id"
            " where x.package = ? and x.version = ?"
        )
        # One by one, as bytes: all forms of a large version at once are more than its package.
        for row in self._db.each(query, (package, version)):
            yield row["key"], row["form"].encode(), States.from_json(json.loads(row["states"]))

    def record(self, contents: Contents, package_digest: str, file: str) -> None:
        """Remembers an export, with every form: the base when something comes back to its source. NotReady if
        somebody recorded the version with other contents in the meantime."""
        # Before the transaction: hashing many items must not keep others from the ledger.
        mine = contents.digest()
        with self._db.transaction():
            # Of this source: packages of one name from elsewhere count versions of their own.
            query = "select contents_digest from exports where package = ? and version = ? and uid = ?"
            past = self._db.rows(query, (contents.name, contents.version, contents.source_uid))
            if any(row["contents_digest"] != mine for row in past):
                raise NotReady(
                    f"{contents.title} was exported by somebody else meanwhile, with other contents.",
                    subject=contents.version,
                    next_step=advice("Run the same command again: it gets the next version."),
                )
            row: tuple[Any, ...] = (self._clock(), contents.source, contents.source_uid, contents.name)
            row += (contents.version,)
            row += (mine, package_digest, file, contents.layout_digest(), next_seq(self._db))
            export_id = self._db.insert(
                "insert into exports (at, environment, uid, package, version, contents_digest, package_digest, file,"
                " layout_digest, seq) values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                row,
            )
            items = list(contents.items.values())
            # In portions: their bytes are made as they are written, and never all of them at once.
            for start in range(0, len(items), PORTION):
                some = items[start : start + PORTION]
                self._db.do_many(
                    "insert into exported values (?, ?, ?, ?, ?)",
                    [(export_id, i.key, i.form_bytes.decode(), dumped(i.states.to_json()), i.schema) for i in some],
                )
