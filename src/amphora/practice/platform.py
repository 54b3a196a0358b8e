"""The platform itself: one environment in one SQLite file, with the habits of real ones.

Every created item gets a new id; a reference to nothing is refused; writes are conditional on the revision
that was seen; kinds with drafts go live only when published; creations carry an idempotency token.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from amphora.core.form.kinds import KindSheet
from amphora.core.values.pointers import parse_pointer, value_at, with_value
from amphora.core.values.raw import Raw
from amphora.practice.files import Files
from amphora.practice.items import FILE_TABLES, PERMISSIONS, PREFIXES, RELEASE, TABLES, PlatformRefusal, PracticeItem
from amphora.practice.rules import Rules
from amphora.practice.sheets import sheets_of
from amphora.practice.upgrades import bring_up_to_date

_LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"
TAKES_BACK_SINCE = "2026"
"""Older releases make a live version for good."""


class Platform:
    """One simulated environment, opened as one account."""

    def __init__(self, path: Path, account: str, clock: Callable[[], str]) -> None:
        self._db = sqlite3.connect(path, isolation_level=None)
        self._db.row_factory = sqlite3.Row
        bring_up_to_date(self._db)
        self._clock = clock
        self.account = account
        row = self._db.execute("select role from accounts where address = ?", (account,)).fetchone()
        if row is None:
            self._db.close()
            raise PlatformRefusal("forbidden", f"no account {account!r} here")
        self.role: str = row["role"]
        trouble = self._db.execute("select value from meta where name = 'trouble'").fetchone()
        self._trouble = int(trouble["value"]) if trouble else 0
        self._sheets: dict[str, KindSheet] | None = None
        self._rules = Rules(self, self._db)
        self.files = Files(self._db)

    def plan_trouble(self, after: int) -> None:
        """Lets one change be refused, after so many others: the last thing that people expect, and what happens."""
        self._trouble = after + 1
        self._db.execute("insert or replace into meta values ('trouble', ?)", (str(self._trouble),))

    @staticmethod
    def found(
        path: Path,
        uid: str,
        name: str,
        region: str,
        base_url: str,
        accounts: dict[str, str],
        *,
        release: str = RELEASE,
        schemas: dict[str, int] | None = None,
        items_limit: dict[str, int] | None = None,
        item_bytes_limit: int | None = None,
    ) -> None:
        """Makes a new, empty environment in a file. `schemas` are the shapes of kinds that this release has
        in another version than the newest."""
        with closing(sqlite3.connect(path)) as db:
            db.executescript(TABLES + FILE_TABLES)
            meta = {"uid": uid, "name": name, "region": region, "base_url": base_url, "counter": "0"}
            meta |= {"release": release, "schemas": json.dumps(schemas or {})}
            meta |= {"limits": json.dumps({"items": items_limit or {}, "item_bytes": item_bytes_limit})}
            db.executemany("insert into meta values (?, ?)", meta.items())
            db.executemany("insert into accounts values (?, ?)", accounts.items())
            db.commit()

    def close(self) -> None:
        """Closes the file."""
        self._db.close()

    def meta(self, name: str) -> str:
        """One fact about the environment: uid, name, region, base_url."""
        value: str = self._db.execute("select value from meta where name = ?", (name,)).fetchone()["value"]
        return value

    @property
    def permissions(self) -> tuple[str, ...]:
        """What this account may do."""
        return PERMISSIONS[self.role]

    def supplies(self) -> list[dict[str, Any]]:
        """Connections and people on offer."""
        return [dict(row) for row in self._db.execute("select * from supplies order by kind, name")]

    def add_supply(
        self,
        kind: str,
        name: str,
        type_: str = "",
        owner: str = "",
        works: bool = True,
        objects: Sequence[str] | None = None,
    ) -> str:
        """Offers a connection or a person (whose id is the address). `objects` are what can be reached
        through a connection; anything, if they aren't given."""
        id_ = name if kind == "person" else self._new_id(kind)
        held = None if objects is None else json.dumps(list(objects))
        row = (id_, kind, name, type_, owner, works, held)
        self._db.execute("insert into supplies values (?, ?, ?, ?, ?, ?, ?)", row)
        return id_

    def probe(self, id_: str) -> tuple[bool, list[str] | None]:
        """Whether a connection works, and what can be reached through it (None: anything)."""
        row = self._db.execute("select works, objects from supplies where id = ?", (id_,)).fetchone()
        if row is None:
            raise PlatformRefusal("not-found", f"there is no connection {id_!r}")
        return bool(row["works"]), None if row["objects"] is None else json.loads(row["objects"])

    @property
    def limits(self) -> dict[str, Any]:
        """`items` by kind and `item_bytes`, None where there is no limit."""
        limits: dict[str, Any] = json.loads(self.meta("limits"))
        return limits

    @property
    def sheets(self) -> dict[str, KindSheet]:
        """The kind sheets of this release."""
        if self._sheets is None:
            self._sheets = sheets_of(json.loads(self.meta("schemas")))
        return self._sheets

    def index(self) -> list[PracticeItem]:
        """Every item, without its definitions: one cheap sweep."""
        columns = "id, kind, folder, name, title, is_on, revision, modified_at, modified_by, row_count"
        # Definitions stay where they are: a list of everything must not cost a reading of everything.
        query = f"select {columns}, live is not null as live, draft is not null as draft from items order by id"
        return [self._row(row, lambda flag: flag or None) for row in self._db.execute(query)]

    def read(self, ids: Sequence[str], is_strict: bool = True) -> list[PracticeItem]:
        """The items with these ids, in this order; refused where one isn't there, unless nobody is strict."""
        found = [self._perhaps(id_) for id_ in ids]
        return [item or self._one(id_) for item, id_ in zip(found, ids, strict=True) if item or is_strict]

    def create(
        self, kind: str, folder: str, name: str, title: str, definition: Any, is_on: bool | None, token: str
    ) -> str:
        """Makes an item and returns its id; the same token again gives the same item."""
        self._allow_writing(kind)
        # The same call again, after an answer that was lost: made once, answered twice.
        answered = self.answered(token)
        if answered:
            return answered
        sheet = self._sheet(kind)
        self._rules.check(definition, sheet)
        self._rules.check_number(kind)
        text = json.dumps(definition, ensure_ascii=False)
        # Nothing goes live by being created: that is what publishing is for.
        live, draft = (None, text) if sheet.is_published else (text, None)
        switch = bool(is_on) if sheet.is_switched else None
        try:
            with self._transaction():
                id_ = self._new_id(kind)
                row = (id_, kind, folder, name or title, title, live, draft, switch, 1, self._clock(), self.account)
                self._db.execute("insert into items values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, null)", row)
                self._db.execute("insert into answered values (?, ?)", (token, id_))
        except sqlite3.IntegrityError as error:
            raise PlatformRefusal("taken", f"{kind} {name!r} exists in {folder or 'the top folder'!r}") from error
        return id_

    def answered(self, token: str) -> str | None:
        """The id that a creation with this token made, if it was carried out."""
        row = self._db.execute("select id from answered where token = ?", (token,)).fetchone()
        return row["id"] if row else None

    def makers(self, ids: Iterable[str]) -> dict[str, str]:
        """The tokens with which items were created."""
        found = {row["id"]: row["token"] for row in self._db.execute("select id, token from answered")}
        return {id_: found[id_] for id_ in ids if id_ in found}

    def update(self, id_: str, title: str, folder: str, definition: Any, keep: Iterable[str], revision: int) -> int:
        """Writes a definition (of a kind with drafts: the draft) over the revision seen; `keep` are the
        pointers of secrets that stay as they are. Returns the new revision."""
        item = self._seen(id_, revision)
        self._allow_writing(item.kind)
        sheet = self._sheet(item.kind)
        # A caller never holds the secret: it names the place, and the platform fills in what it has.
        for pointer in keep:
            definition = with_value(definition, parse_pointer(pointer), self._secret(item, pointer))
        self._rules.check(definition, sheet)
        column = "draft" if sheet.is_published else "live"
        values = (json.dumps(definition, ensure_ascii=False), title, folder, self._clock(), self.account, id_)
        try:
            with self.files.settling([id_]):
                self._db.execute(
                    f"update items set {column} = ?, title = ?, folder = ?, revision = revision + 1,"
                    " modified_at = ?, modified_by = ? where id = ?",
                    values,
                )
        except sqlite3.IntegrityError as error:
            where = folder or "the top folder"
            raise PlatformRefusal("taken", f"{item.kind} {item.name!r} exists in {where!r}") from error
        return revision + 1

    @property
    def takes_back(self) -> bool:
        """Whether this release can take a live version back."""
        return self.meta("release") >= TAKES_BACK_SINCE

    def publish(self, id_: str, revision: int | None = None) -> None:
        """Makes the draft the live version."""
        self._allow("publish")
        if self._seen(id_, revision).draft is not None:
            # One statement: there is no moment without a live version.
            self._touch("live = draft, draft = null", id_)

    def take_back(self, id_: str, revision: int | None = None) -> None:
        """Takes the live version back: it becomes the draft, unless there is one already."""
        self._allow("publish")
        if not self.takes_back:
            raise PlatformRefusal("invalid", f"release {self.meta('release')} can't take a live version back")
        item = self._seen(id_, revision)
        if not self._sheet(item.kind).is_published:
            raise PlatformRefusal("invalid", f"nothing of the kind {item.kind} is ever a draft")
        if item.live is not None:
            # Newer edits win over the version that was live: throwing them away would lose somebody's work.
            self._touch("draft = coalesce(draft, live), live = null", id_)

    def drop_draft(self, id_: str) -> None:
        """Throws the draft away."""
        self._allow_writing(self._one(id_).kind)
        self._touch("draft = null", id_)

    def switch(self, id_: str, is_on: bool, revision: int | None = None) -> None:
        """Switches an item on or off; on only while the connections that it uses work."""
        self._allow("switch")
        item = self._seen(id_, revision)
        # Off is always possible: a flow that runs wild has to be stopped.
        if is_on:
            self._rules.check_connections(item)
        self._touch(f"is_on = {int(is_on)}", id_)

    def delete(self, revisions: Mapping[str, int | None]) -> None:
        """Removes items with their rows, all or none: `revisions` are those seen, by id (None: any). Refused
        while an item outside the set uses one of them."""
        self._allow("retire")
        # Looked at and removed in one go: nobody can begin to use an item in between, and rows go with their table.
        with self._transaction():
            for id_, revision in revisions.items():
                # All of them are looked at before the first goes.
                self._seen(id_, revision)
            for other in self.everything():
                used = self._rules.used(other) & revisions.keys() if other.id not in revisions else None
                # Drafts count as users, as on real platforms: publishing them would dangle.
                if used:
                    raise PlatformRefusal("in-use", f"{', '.join(sorted(used))} is used by {other.title}")
            with self.files.settling(revisions):
                for id_ in revisions:
                    self._db.execute("delete from records where item_id = ?", (id_,))
                    self._db.execute("delete from items where id = ?", (id_,))

    def everything(self) -> list[PracticeItem]:
        """All items with their definitions."""
        return [self._row(row, _parsed) for row in self._db.execute("select * from items order by id")]

    def records(self, id_: str) -> Iterator[Any]:
        """The rows of a table, in order, without holding them."""
        self._one(id_)
        for row in self._db.execute("select body from records where item_id = ? order by number", (id_,)):
            yield json.loads(row["body"])

    def add_records(self, id_: str, rows: Iterable[Any]) -> int:
        """Fills an empty table with rows; returns how many. All of them, or none."""
        self._allow("write")
        if self._one(id_).row_count:
            raise PlatformRefusal("taken", f"{id_} holds rows already")
        with self._transaction():
            bodies = ((id_, number, json.dumps(row, ensure_ascii=False)) for number, row in enumerate(rows))
            self._db.executemany("insert into records values (?, ?, ?)", bodies)
            [count] = self._db.execute("select count(*) from records where item_id = ?", (id_,)).fetchone()
            self._db.execute("update items set row_count = ? where id = ?", (count, id_))
        return int(count)

    def keep_file(self, name: str, content: Raw) -> None:
        """Takes an attachment in, which an item may name from now on."""
        self._allow("write")
        self.files.keep(name, content)

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        """All of it, or nothing."""
        self._db.execute("begin immediate")
        try:
            yield
            self._db.execute("commit")
        except BaseException:
            self._db.execute("rollback")
            raise

    def _one(self, id_: str) -> PracticeItem:
        item = self._perhaps(id_)
        if item is None:
            raise PlatformRefusal("not-found", f"there is no item {id_!r}")
        return item

    def _perhaps(self, id_: str) -> PracticeItem | None:
        row = self._db.execute("select * from items where id = ?", (id_,)).fetchone()
        return None if row is None else self._row(row, _parsed)

    def _seen(self, id_: str, revision: int | None) -> PracticeItem:
        """The item, if it is as somebody saw it."""
        item = self._one(id_)
        if revision is not None and item.revision != revision:
            raise PlatformRefusal("moved", f"revision of {item.title!r} is {item.revision}, not {revision}")
        return item

    def _row(self, row: sqlite3.Row, definition: Callable[[Any], Any]) -> PracticeItem:
        values = dict(row)
        on = values["is_on"]
        live, draft = definition(values["live"]), definition(values["draft"])
        return PracticeItem(**values | {"live": live, "draft": draft, "is_on": None if on is None else bool(on)})

    def _touch(self, what: str, id_: str) -> None:
        self._one(id_)
        stamp = (self._clock(), self.account, id_)
        with self.files.settling([id_]):
            self._db.execute(
                f"update items set {what}, revision = revision + 1, modified_at = ?, modified_by = ? where id = ?",
                stamp,
            )

    def _allow(self, permission: str) -> None:
        if permission not in self.permissions:
            raise PlatformRefusal("forbidden", f"{self.account} ({self.role}) may not {permission}")
        if self._trouble:
            self._trouble -= 1
            self._db.execute("update meta set value = ? where name = 'trouble'", (str(self._trouble),))
            if not self._trouble:
                raise PlatformRefusal("busy", "too much was asked of it just now")

    def _allow_writing(self, kind: str) -> None:
        # Whoever may write may not for that let people in.
        self._allow("grant" if self._sheet(kind).is_access else "write")

    def _sheet(self, kind: str) -> KindSheet:
        sheet = self.sheets.get(kind)
        if sheet is None:
            raise PlatformRefusal("invalid", f"no kind {kind!r} here")
        return sheet

    def _new_id(self, kind: str) -> str:
        counter = int(self.meta("counter")) + 1
        self._db.execute("update meta set value = ? where name = 'counter'", (str(counter),))
        # From a counter: the demo has to give the same ids, links and pictures every time.
        seed = hashlib.sha256(f"{self.meta('uid')}/{counter}".encode()).digest()
        return f"{PREFIXES[kind]}-{''.join(_LETTERS[byte % 32] for byte in seed[:8])}"

    def _secret(self, item: PracticeItem, pointer: str) -> Any:
        try:
            return value_at(item.newest, parse_pointer(pointer))
        except LookupError as error:
            raise PlatformRefusal("invalid", f"nothing to keep at {pointer} of {item.title!r}") from error


def _parsed(text: str | None) -> Any:
    return None if text is None else json.loads(text)
