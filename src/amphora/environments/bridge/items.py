"""What a platform shows of its items: rows of lists and single answers, opened, secrets masked."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import TypeVar

from amphora.core.form.kinds import Ids
from amphora.core.form.looks import BLIND, Looks
from amphora.core.form.native_ids import MARK, closed_id, opened_id
from amphora.core.form.opened import opened
from amphora.core.form.places import values_at
from amphora.core.form.spots import mask_secrets
from amphora.core.values.canon import loose_digest
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json, Listed, States
from amphora.core.values.next_step import advice
from amphora.environments.bridge import lines, members
from amphora.environments.bridge.answer import Absent, Answer
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.folders import Folders
from amphora.environments.bridge.holders import Holders
from amphora.environments.bridge.hooks import hook_of
from amphora.environments.bridge.known import Known
from amphora.environments.bridge.names import Names
from amphora.environments.bridge.parts import DERIVED, BridgeSheet, Call, ItemPart
from amphora.environments.bridge.paths import changed_at, filled, is_list, moment_of, text_at, value_at, with_hidden
from amphora.environments.bridge.removal import Standing
from amphora.environments.bridge.single import Single, moved, row_in
from amphora.environments.contract import Seen

MOST_LOOKS = 5
"""So often a row is asked for that is another one's."""

LATE_S = (0.1, 0.3, 0.6, 1.0, 2.0)
"""How long a platform is given to show what it says that it took."""

Value = TypeVar("Value")
Found = TypeVar("Found")


class Items:
    """Reads items, many at a time where the platform bears it."""

    def __init__(
        self, client: Client, sheet: BridgeSheet, ids: Mapping[str, Ids], folders: Folders, links: str
    ) -> None:
        self._client, self._sheet, self._ids = client, sheet, ids
        self._folders, self._links = folders, links
        self.known = Known()
        self.holders = Holders(sheet.items, self.rows_of)
        self.names = Names(sheet.items, self.rows_of, self._newest, self._each)
        self.looks = Looks(self.names.called, self.names.parts, client.base_url, self.names.ids, self.names.holder)
        self.hook = hook_of(sheet)

    def index(self) -> list[Listed]:
        """All of them, by id."""
        found: dict[str, Listed] = {}
        for row in (row for part in self._sheet.items.values() for row in self.of_kind(part)):
            # The first one stays: which of two it is makes no difference where they are the same.
            self._refuse_two_kinds(found.setdefault(row.native_id, row), row)
        return sorted(found.values(), key=lambda row: row.native_id)

    def _refuse_two_kinds(self, one: Listed, other: Listed) -> None:
        # The same one twice is a list that moved while it was read; two of one id would hide each other.
        if one.kind != other.kind:
            raise EnvironmentRefused(
                f"A {one.kind} and a {other.kind} have the same id, {one.native_id!r}.",
                subject=one.native_id,
                place=self._sheet.file,
                next_step=advice("Say [ids] space in the kind sheet of each: their ids are counted apart."),
            )

    def of_kind(self, part: ItemPart) -> list[Listed]:
        """All of one kind."""
        # The list is asked for each time: it is the only thing that tells what came and went.
        rows = self.rows_of(part)
        if part.tells_too_little:
            # Such a platform tells only item by item what changed, or what is live.
            native = [self._id_of(part, row, part.index) for row in rows]
            return [single.row for single in self._each(lambda id_: self.single(part, id_), native) if single]
        return [self._listed(part, row) for row in rows]

    def ids_called(self, part: ItemPart, title: str) -> set[str]:
        """The ids, as the platform writes them, of the items of a kind that have this title, by the list."""
        return {id_ for id_, called in self.called(part).items() if called == title}

    def called(self, part: ItemPart) -> dict[str, str]:
        """The titles of the items of a kind by their ids, as the platform writes them, by the list."""
        return {part.id_in(row): text_at(row, part.paths["title"]) for row in self.rows_of(part)}

    def new_in(self, part: ItemPart, title: str, there: Mapping[str, str]) -> str:
        """The id of what was just made, by the list, which was `there` before; empty where nobody can tell."""
        known = [id_ for id_, called in there.items() if called == title]
        for wait_s in (0.0, *(() if known else LATE_S)):
            time.sleep(wait_s)
            now = self.called(part)
            new = [id_ for id_ in now if id_ not in there]
            # Of that name, unless the platform gave it another one.
            if found := [id_ for id_ in new if now[id_] == title] or new:
                return found[0] if len(found) == 1 else ""
        # Where nothing is new it was the one that is there, and perhaps is no longer what it was.
        return known[0] if len(known) == 1 else ""

    def rows_of(self, part: ItemPart) -> list[Json]:
        """The list of a kind, as the sheet describes its rows; of items inside of others that of each of these."""
        within = part.within
        if within is None:
            return self._there(part, (self._as_shown(part, row, None) for row in self._client.rows(part.index)))

        ids = self.holders.ids_in(within.kind, self.rows_of(self._sheet.items[within.kind]))
        return [row for rows in self._each(lambda holder: self._rows_in(part, holder), ids) for row in rows]

    def _rows_in(self, part: ItemPart, holder: Json) -> list[Json]:
        rows = self._client.rows(part.index, self.holders.values_in(part, holder))
        there = self._there(part, (self._as_shown(part, row, holder) for row in rows))
        for row in there:
            self.holders.note(part, part.id_in(row), holder)
        return there

    def held_in(self, part: ItemPart, holder: Json) -> list[Single]:
        """The items of a kind that one item holds, whole."""
        native = [part.id_in(row) for row in self._rows_in(part, holder)]
        return [single for id_ in native if (single := self.single(part, id_))]

    def _there(self, part: ItemPart, rows: Iterable[Json]) -> list[Json]:
        """Those of some rows, or answers, whose items are there: some platforms go on showing what was removed."""
        gone = part.flags.get("gone")
        return [row for row in rows if not (gone and gone.holds(row))]

    def _newest(self, native_id: str) -> Json:
        """The newest definition of an item as it is written, without opening what it refers to: two items may refer
        to each other's parts."""
        return next((form for part in self._parts_of(native_id) if (form := self._native(part, native_id))), None)

    def _native(self, part: ItemPart, native_id: str) -> Json:
        self.holders.learn(part, [native_id])
        values = self.holders.values_of(part, str(closed_id(native_id, part.kind.ids)))
        answer = self._perhaps(part.draft, values) or self._perhaps(part.read, values)
        if answer is None or not self._there(part, [self._row_in(part, native_id, answer.body)]):
            return None
        return self._definition(part, self._as_shown(part, answer.body, values.get("parent"), is_single=True), values)

    def _as_shown(self, part: ItemPart, answer: Json, holder: Json, is_single: bool = False) -> Json:
        """An answer as the sheet describes it, with what holds the item, if it doesn't say that by itself."""
        answer = self.hook.shown(part.kind.kind, answer)
        if is_single and "row" in part.paths:
            shown = changed_at(answer, part.paths["row"], lambda row: self._client.with_id(row, part.paths))
        else:
            shown = self._client.with_id(answer, part.paths)
        return {part.within.member: holder, **shown} if part.within and isinstance(shown, dict) else shown

    def forget(self, native_id: str) -> None:
        """That there was such an item: it is removed, and its id may be given again."""
        self.known.forget(native_id)
        self.holders.forget(native_id)

    def singles(self, native_ids: Sequence[str]) -> dict[str, Single]:
        """Those of these items that are there, whole."""
        known = [(id_, part) for id_ in dict.fromkeys(native_ids) for part in self._parts_of(id_)]
        for part in self._sheet.items.values():
            self.holders.learn(part, [id_ for id_, its in known if its is part])
        found = self._each(lambda one: self.single(one[1], str(closed_id(one[0], one[1].kind.ids))), known)
        singles: dict[str, Single] = {}
        for single in found:
            if single:
                self._refuse_two_kinds(singles.setdefault(single.row.native_id, single).row, single.row)
        return singles

    def _each(self, look: Callable[[Value], Found], what: Sequence[Value]) -> list[Found]:
        """Many looks, some at a time."""
        # Nearly always while an import goes on: a pool for one call would take longer than the call.
        if len(what) < 2:
            return [look(one) for one in what]
        with ThreadPoolExecutor(self._client.pace.now) as pool:
            return list(pool.map(look, what))

    def _parts_of(self, native_id: str) -> Iterable[ItemPart]:
        """The kinds of which an item of this id can be."""
        # Shown before, it is of one kind for good: the others need not be asked.
        if kind := self.known.kind_of(native_id):
            return [self._sheet.items[kind]]
        space, mark, _ = native_id.partition(MARK)
        parts = [part for part in self._sheet.items.values() if part.kind.ids.space == (space if mark else "")]
        # An id may be of several kinds where the sheet tells no spaces apart. By the lists, for some platforms answer
        # for every kind under one path; what none of them has (yet) is asked of each.
        listed = [part for part in parts if native_id in self.names.ids(part.kind.kind)] if len(parts) > 1 else []
        return listed or parts

    def single(self, part: ItemPart, native: str) -> Single | None:
        """One item, whole; None where it isn't there."""
        values = self.holders.values_of(part, native)
        if part.within and "parent" not in values:
            return None
        live, draft = self._perhaps(part.read, values), self._perhaps(part.draft, values)
        # As the platform wrote it, its id as well: some want it back.
        whole = next((self.hook.shown(part.kind.kind, one.body) for one in (live, draft) if one), None)
        live, draft = (
            one and replace(one, body=self._as_shown(part, one.body, values.get("parent"), is_single=True))
            for one in (live, draft)
        )
        # An item that was never published has only a draft, and is an item all the same. Where its row has a call of
        # its own, one that has neither is there, too, and holds nothing yet.
        answer = live or draft
        if answer is None and part.row is None:
            return None
        row = self._row_in(part, native, answer.body) if answer else None
        if answer and not self._there(part, [row]):
            return None
        row = self._row(part, part.row, native, values, answer is not None) if part.row else row
        # It went between the two calls.
        if row is None or not self._there(part, [row]):
            return None
        if answer is None:
            answer = Answer({})
            live, draft = (None, answer) if part.draft else (answer, None)
        forms = [self._definition(part, one.body, values) if one else None for one in (live, draft)]
        native_form = forms[1] if forms[1] is not None else forms[0]
        shown = [None if form is None else self._opened(part, form) for form in forms]
        # A draft that says what is live is none.
        is_same = shown[0] is not None and shown[1] is not None and loose_digest(shown[0]) == loose_digest(shown[1])
        shown[1] = None if is_same else shown[1]
        said: Sequence[Json] = shown
        if part.kind.names_by_title or part.kind.has_uids or part.kind.parts_by:
            # As it stands there: when something that it names is called otherwise, this item has not changed.
            said = [
                None if one is None else self._opened(part, form, BLIND)
                for one, form in zip(shown, forms, strict=True)
            ]
        listed = self._listed(part, row, answer.etag, shown, said)
        at = part.paths.get("revision", "")
        stamp = value_at(row, at) if at.startswith("$") else None
        return Single(listed, shown[0], shown[1], native_form, whole, answer.etag, stamp)

    def shown(self, part: ItemPart, native: str) -> Single | None:
        """One item that was just written: some platforms show what they took only after a while."""
        for wait_s in LATE_S:
            if single := self.single(part, native):
                return single
            time.sleep(wait_s)
        return self.single(part, native)

    def _row_in(self, part: ItemPart, native: str, answer: Json) -> Json:
        """What the list shows of an item, in a single answer; EnvironmentRefused where the sheet is wrong about where
        that stands: it would look like an item that is gone."""
        row = row_in(part, native, answer)
        if "row" in part.paths and not isinstance(row, dict):
            call = replace(part.read, name=f"item.{part.kind.kind}.row")
            raise self._client.otherwise(call, f"at {part.paths['row']} there is no object")
        return row

    def _row(self, part: ItemPart, call: Call, native: str, values: Mapping[str, Json], is_there: bool) -> Json:
        """The row of one item, and no other one; None where there is none. Of what `is_there` some platforms mix up
        what several ask of a list at the same time, and answer with another item's row, or with no row."""
        call = call.placed(values)
        whole, wait = replace(call, at="$"), 0.0
        for _ in range(MOST_LOOKS):
            time.sleep(wait)
            wait = 2 * wait + 0.05
            answer = self._perhaps(whole, values)
            if answer is None:
                return None
            row = self._as_shown(part, value_at(answer.body, call.at), values.get("parent"))
            if (row is None and not is_there) or (row is not None and part.id_in(row) == native):
                return row
        raise self._client.otherwise(call, f"at {call.at} there is not the row of {native}")

    def _perhaps(self, call: Call | None, values: Mapping[str, Json]) -> Answer | None:
        try:
            return self._client.ask(call, values) if call else None
        except Absent:
            return None

    def _definition(self, part: ItemPart, answer: Json, values: Mapping[str, Json]) -> dict[str, Json]:
        """The members that make the definition, as the platform writes them."""
        found = {name: values_at(answer, path) for name, path in part.definition.items()}
        # A place with `[*]` in it is the list of all that stand there: ids out of objects, most often.
        form = {n: some if is_list(part.definition[n]) else some[0] for n, some in found.items() if some}
        form |= {n: [] for n, some in found.items() if not some and is_list(part.definition[n])}
        for name in part.more:
            beside = members.shown(self._client, part, name, values)
            form |= {} if beside is None else {name: part.apart[name].bare(beside)}
        return form

    def _opened(self, part: ItemPart, form: Json, looks: Looks | None = None) -> Json:
        return mask_secrets(
            with_hidden(opened(form, part.kind, self._ids, looks or self.looks), part.hidden), part.kind
        )

    def _listed(
        self, part: ItemPart, row: Json, etag: str = "", shown: Sequence[Json] = (), said: Sequence[Json] = ()
    ) -> Listed:
        paths = part.paths
        call = (part.row or part.read) if shown else part.index
        native = self._id_of(part, row, call)
        self._refuse_unlike(part, call, row)
        title, folder = text_at(row, paths["title"]), self._folders.of(row, paths.get("folder", ""))
        revision = paths.get("revision", "content")
        stamp = etag if revision == "etag" else text_at(row, revision) if revision != "content" else ""
        is_on = self._flag(part, row, "on") if "on" in part.flags else None
        is_published, is_drafted = self._versions(part, row, shown)
        states = States(title, folder, is_on, is_published)
        links = {**self.holders.values_of(part, native), "uid": text_at(row, paths.get("uid")), "title": title}
        # Where nobody says how an item is opened, the platform's own address would be no help.
        link = str(filled(paths["link"], links, is_path=True)) if "link" in paths else ""
        native_id = opened_id(native, part.kind.ids)
        self.known.shown(native_id, part.kind.kind, title)
        return Listed(
            native_id=native_id,
            kind=part.kind.kind,
            segments=(*(one for one in folder.split("/") if one), *self.holders.path_of(part, native_id), title),
            states=states,
            revision=stamp or loose_digest([*said, title, folder, is_on]),
            link=link if link.startswith("http") or not link else f"{self._links}{link}",
            modified_at=moment_of(value_at(row, paths["changed_at"])) if "changed_at" in paths else None,
            modified_by=text_at(row, paths.get("changed_by")) or None,
            rows=self._count(part, row, native) if part.rows else None,
            has_draft=is_drafted,
            is_drafted_only=is_published is False,
        )

    def _id_of(self, part: ItemPart, row: Json, call: Call) -> str:
        """The id in a row. EnvironmentRefused where there is none: it could be seen and never touched again, or
        would not even be seen, where each is asked for by itself."""
        native = part.id_in(row)
        if not native:
            written = f" that is written like {part.paths['id_form']}" if "id_form" in part.paths else ""
            raise self._client.otherwise(call, f"there is no id at {part.paths['id']}{written}")
        return native

    def _refuse_unlike(self, part: ItemPart, call: Call, row: Json) -> None:
        """Refuses a row in which something that every item has doesn't stand where the sheet says: without a title
        nobody would find it, and without a revision nobody would see that it was changed."""
        needed = ("title", *(("revision",) if part.paths.get("revision", "content") not in DERIVED else ()))
        for name in needed:
            found = values_at(row, part.paths[name])
            if not found or isinstance(found[0], dict | list) or (found[0] is None and name != "title"):
                raise self._client.otherwise(call, f"there is no {name} at {part.paths[name]}")
        for name in {"folder", "changed_by", "uid"} & part.paths.keys():
            if isinstance(value_at(row, part.paths[name]), dict):
                raise self._client.otherwise(call, f"at {part.paths[name]} there is no text for {name}")

    def _count(self, part: ItemPart, row: Json, native: str) -> int | None:
        """How many rows an item holds; None where the platform says that there is nothing to count."""
        assert part.rows
        call = part.rows.counted
        if part.rows.count == lines.BY_READING:
            return sum(1 for _ in self._client.each(part.rows.read, self.holders.values_of(part, native)))
        answer = self._perhaps(call, self.holders.values_of(part, native)) if call else None
        if call and answer is None:
            return None
        found = answer.body if answer else value_at(row, part.rows.count)
        try:
            return int(str(found))
        except ValueError as error:
            where = call or part.index
            raise self._client.otherwise(where, f"{str(found)[:40]!r} is no number of rows") from error

    def _versions(self, part: ItemPart, row: Json, shown: Sequence[Json]) -> tuple[bool | None, bool]:
        """Whether there is a live version, and whether a draft beside it: as was looked at, else as the row says."""
        # None is a kind that knows no publishing.
        if not part.kind.is_published:
            return None, False
        if shown:
            return shown[0] is not None, shown[1] is not None
        return self._flag(part, row, "published"), self._flag(part, row, "unpublished")

    def _flag(self, part: ItemPart, row: Json, name: str) -> bool:
        """Whether something holds of an item, as its row says."""
        flag = part.flags[name]
        try:
            return flag.holds(row)
        except ValueError as error:
            words = f"at {flag.at} stands {str(error)[:40]!r}, and no `is` of `{name}` says what that means"
            raise self._client.otherwise(part.index, words) from error

    def seen(self, items: Sequence[Seen]) -> dict[str, Single]:
        """The items, if they are as somebody saw them: what the platform itself compares on writing, or this look
        does."""
        found = self.singles([item.native_id for item in items])
        return {item.native_id: self._as_seen(item, found.get(item.native_id)) for item in items}

    def _as_seen(self, item: Seen, single: Single | None) -> Single:
        if single is None:
            raise EnvironmentRefused(
                f"{self._client.base_url} has no item {item.native_id!r} (any more).", subject=item.native_id
            )
        if single.row.revision != item.revision:
            raise moved(self._client.base_url, single)
        return single

    def standing(self, single: Single) -> Standing:
        """An item as what others may need."""
        forms = tuple(form for form in (single.live, single.draft) if form is not None)
        row = single.row
        return Standing(row.native_id, row.states.title, self._sheet.items[row.kind].kind, forms)
