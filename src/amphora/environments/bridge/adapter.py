"""The Environment protocol over a platform that a bridge sheet describes."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.kinds import Ids
from amphora.core.form.native import to_native
from amphora.core.form.opened import MARK, closed_id, id_pattern, opened, opened_id
from amphora.core.form.spots import mask_secrets
from amphora.core.plan.states import Image
from amphora.core.values.canon import digest
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved, Uncertain
from amphora.core.values.model import Found, Json, Listed, States, Supply
from amphora.core.values.next_step import advice
from amphora.environments.bridge.bodies import Bodies
from amphora.environments.bridge.client import Absent, Answer, Client
from amphora.environments.bridge.folders import Folders
from amphora.environments.bridge.paths import filled, moment_of, text_at, value_at, values_at
from amphora.environments.bridge.removal import Standing, in_order, refuse_danglings, refuse_taking, users
from amphora.environments.bridge.sheet import BridgeSheet, Call, ItemPart, SupplyPart
from amphora.environments.contract import (
    Capabilities,
    Description,
    Identity,
    Seen,
    Take,
    Write,
    Written,
)

ALL = frozenset({"read", "write", "publish", "switch", "retire"})
Value = TypeVar("Value")


@dataclass(frozen=True)
class Single:
    """One item as a platform answers it: its row, the live definition and the draft (opened, secrets masked), the
    live or newest one as it was written, and the entity tag."""

    row: Listed
    live: Json
    draft: Json
    native: Json
    whole: Json
    etag: str


class Bridge:
    """An environment by description. What only some platforms can do stands in classes of their own, below."""

    def __init__(self, client: Client, sheet: BridgeSheet, account: str = "") -> None:
        self.client, self.sheet = client, sheet
        self._account = account
        self.ids: dict[str, Ids] = {kind: part.kind.ids for kind, part in sheet.items.items()}
        for supply in sheet.supplies:
            self.ids[supply.kind] = Ids(supply.space, supply.is_number)
        self.folders = Folders(client, sheet)
        self.bodies = Bodies(sheet, self.ids, self.folders)
        self.links = (sheet.links or "{address}").replace("{address}", client.base_url).rstrip("/")

    def describe(self) -> Description:
        about = {name: text_at(self.client.ask(call).body, "$") for name, call in self.sheet.about.items()}
        # By address where it says nothing of itself: what else would stay the same through all changes?
        by_address = f"{self.sheet.name}-" + hashlib.sha256(self.client.base_url.encode()).hexdigest()[:16]
        parts = self.sheet.items.values()
        return Description(
            uid=about.get("uid") or by_address,
            release=about.get("release", ""),
            region=about.get("region", ""),
            base_url=self.links,
            capabilities=Capabilities(
                is_atomic=False,
                keeps_ids=False,
                has_drafts=any(part.kind.is_published for part in parts),
                writes_states=False,
                takes_back=any(part.take_back for part in parts),
                fills_in=True,
                is_guarded=all(part.update is None or part.update.said("match") == "etag" for part in parts),
            ),
            id_style=IdStyle(id_pattern(self.ids), "", MARK if any(one.space for one in self.ids.values()) else ""),
            sheets={kind: part.kind for kind, part in self.sheet.items.items()},
        )

    def whoami(self) -> Identity:
        call = self.sheet.account
        if call is None:
            return Identity(self._account or "nobody", "not told", ALL)
        answer = self.client.ask(call).body
        where = call.said("name") or "$.name"
        names = [text_at(answer, path) for path in (where if isinstance(where, list) else [where])]
        name = " ".join(filter(None, names)) or self._account
        allows = call.said("allows", {})
        if not call.said("rights"):
            return Identity(name, "not told", ALL)
        rights = {str(right) for right in values_at(answer, call.said("rights"))}
        may = {permission for permission, names in allows.items() if rights & set(names)}
        # Whoever is not named in the sheet is not asked for: only what it lists needs a right.
        return Identity(name, ", ".join(sorted(rights)[:5]), frozenset(may | (ALL - allows.keys())))

    def index(self) -> list[Listed]:
        rows = [row for part in self.sheet.items.values() for row in self._listed_kind(part)]
        return sorted({row.native_id: row for row in rows}.values(), key=lambda row: row.native_id)

    def _listed_kind(self, part: ItemPart) -> list[Listed]:
        rows = self.client.rows(part.index)
        if part.tells_too_little:
            # Such a platform tells only item by item what changed, or what is live.
            native = [text_at(row, part.paths["id"]) for row in rows]
            return [single.row for single in self._each(lambda id_: self._single(part, id_), native) if single]
        return [self._listed(part, row) for row in rows]

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        found = self._singles(native_ids)
        # Once more, for whoever reads has seen them in the list: under load some platforms deny what they hold.
        found |= self._singles([id_ for id_ in native_ids if id_ not in found])
        if missing := [id_ for id_ in native_ids if id_ not in found]:
            raise EnvironmentRefused(f"{self.client.base_url} has no item {missing[0]!r}.", subject=missing[0])
        return [
            Found(one.row, one.draft if (take == "draft" or one.live is None) and one.draft is not None else one.live)
            for one in (found[id_] for id_ in native_ids)
        ]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        return {id_: Image.of(one.row, one.live, one.draft) for id_, one in self._singles(native_ids).items()}

    def supplies(self) -> list[Supply]:
        return [supply for part in self.sheet.supplies for supply in self._supplied(part)]

    def _supplied(self, part: SupplyPart) -> list[Supply]:
        ids = self.ids[part.kind]
        return [
            Supply(
                part.kind,
                opened_id(text_at(row, part.paths["id"]), ids),
                text_at(row, part.paths["name"]),
                text_at(row, part.paths.get("type")),
                text_at(row, part.paths.get("owner")),
                bool(value_at(row, part.paths["works"])) if "works" in part.paths else None,
            )
            for row in self.client.rows(part.index)
        ]

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return [self._create(write) if write.is_new else self._update(write) for write in writes]

    def retire(self, items: Sequence[Seen]) -> None:
        there = {item.native_id: self._seen(item) for item in items}
        self._refuse_danglings(there)
        is_begun = False
        # Users before what they use: a platform that refuses what is in use is asked in an order that it takes.
        for one in in_order([self._standing(single) for single in there.values()]):
            single = there[one.native_id]
            part = self.sheet.items[single.row.kind]
            try:
                self._do(self._able(part.retire, single.row, "remove"), part, single)
            except EnvironmentRefused as error:
                if is_begun:
                    # Some are gone: whoever asks for all or none has to look.
                    raise Uncertain(error.message, subject=one.native_id) from error
                raise
            is_begun = True

    def at_once(self) -> int:
        return self.client.pace.now

    def close(self) -> None:
        self.client.close()

    def _create(self, write: Write) -> Written:
        part = self.sheet.items[write.kind]
        call = part.create
        if call is None:
            raise self._unable(write.states.title, write.kind, "make")
        body = self.bodies.of(part, write, None, call, uid=uid_of(write.token) if call.said("uid") else "")
        answer = self.client.change(call, {"title": write.states.title, "folder": write.states.folder}, body)
        native = self._made(part, call, answer)
        single = self._single(part, native)
        if single is None:
            raise Uncertain(f"{self.client.base_url} made {write.states.title!r}, and does not show it.")
        if call.said("follow", False):
            return self._followed(part, write, single)
        single = self._switched_back(part, single, False)
        return Written(single.row.native_id, single.row.revision, single.row.link)

    def _followed(self, part: ItemPart, write: Write, single: Single) -> Written:
        """Sends all of it in a change right after: some members are taken only from what is there already, and what
        the platform made of others has ids by now. Refused, the creation is taken back: half an item is none."""
        laid = to_native(write.definition, part.kind, Bindings(IdStyle("(?!)")), present=single.draft or single.live)
        row = single.row
        update = replace(write, definition=laid.definition, native_id=row.native_id, revision=row.revision)
        try:
            return self._update(update)
        except (EnvironmentRefused, RevisionMoved) as error:
            try:
                self.retire([Seen(row.native_id, row.revision)])
            except AmphoraError as trouble:
                raise Uncertain(
                    f"{error.message} What was made of it is still there.", subject=error.subject
                ) from trouble
            raise

    def _made(self, part: ItemPart, call: Call, answer: Answer) -> str:
        """The id of what a creation made, at the end of its job if it is one."""
        where = call.said("id") or part.paths["id"]
        if job := call.said("job", None):
            answer = self.bodies.awaited(self.client, job, answer)
            where = job.said("id") or where
        native = (
            answer.location.rstrip("/").rpartition("/")[2] if where == "location" else text_at(answer.body, where)
        )
        if not native:
            raise Uncertain(f"{self.client.base_url} made something, and does not say under which id.")
        return native

    def _update(self, write: Write) -> Written:
        part = self.sheet.items[write.kind]
        call = part.update
        single = self._seen(Seen(str(write.native_id), str(write.revision)))
        if call is None:
            raise self._unable(write.states.title, write.kind, "change")
        body = self.bodies.of(part, write, single.native, call, single.whole)
        values = self._values(part, str(write.native_id), single.row)
        headers = _match(call, single)
        # Some platforms take a PUT like that: what is left out stays, and null takes it away.
        if call.said("how") == "merge patch" and call.method == "PATCH":
            headers["Content-Type"] = "application/merge-patch+json"
        self.client.change(call, values, body, headers)
        after = self._single(part, str(values["id"]))
        if after is None:
            raise Uncertain(f"{self.client.base_url} wrote {write.states.title!r}, and does not show it any more.")
        after = self._switched_back(part, after, bool(single.row.states.is_on))
        return Written(after.row.native_id, after.row.revision, after.row.link)

    def _switched_back(self, part: ItemPart, single: Single, was_on: bool) -> Single:
        """What a call switched along is switched back: on and off are decided by steps of their own."""
        is_on = single.row.states.is_on
        if is_on is None or is_on is was_on or was_on not in part.switch:
            return single
        call = part.switch[was_on]
        values = self._values(part, single.row.native_id, single.row)
        self.client.change(call, values, headers=_match(call, single))
        return self._single(part, str(values["id"])) or single

    def _singles(self, native_ids: Sequence[str]) -> dict[str, Single]:
        known = [(id_, part) for id_ in dict.fromkeys(native_ids) for part in self._parts_of(id_)]
        found = self._each(lambda one: self._single(one[1], str(closed_id(one[0], one[1].kind.ids))), known)
        return {one.row.native_id: one for one in found if one}

    def _each(self, look: Any, what: Sequence[Value]) -> list[Any]:
        """Many looks, some at a time."""
        if len(what) < 2:
            return [look(one) for one in what]
        with ThreadPoolExecutor(self.client.pace.now) as pool:
            return list(pool.map(look, what))

    def _parts_of(self, native_id: str) -> Iterable[ItemPart]:
        """The kinds of which an item of this id can be."""
        space, mark, _ = native_id.partition(MARK)
        return [part for part in self.sheet.items.values() if part.kind.ids.space == (space if mark else "")]

    def _single(self, part: ItemPart, native: str) -> Single | None:
        """One item, whole; None where it isn't there."""
        values: dict[str, Json] = {"id": native}
        live, draft = self._perhaps(part.read, values), self._perhaps(part.draft, values)
        answer = live or draft
        if answer is None:
            return None
        row = self._perhaps(part.row, values) if part.row else answer
        if row is None:
            return None
        forms = [self._definition(part, one.body, values) if one else None for one in (live, draft)]
        native_form = forms[1] if forms[1] is not None else forms[0]
        shown = [None if form is None else self._opened(part, form) for form in forms]
        # A draft that says what is live is none.
        is_same = shown[0] is not None and shown[1] is not None and digest(shown[0]) == digest(shown[1])
        shown[1] = None if is_same else shown[1]
        listed = self._listed(part, row.body, answer.etag, shown)
        return Single(listed, shown[0], shown[1], native_form, answer.body, answer.etag)

    def _perhaps(self, call: Call | None, values: Mapping[str, Json]) -> Answer | None:
        try:
            return self.client.ask(call, values) if call else None
        except Absent:
            return None

    def _definition(self, part: ItemPart, answer: Json, values: Mapping[str, Json]) -> dict[str, Json]:
        """The members that make the definition, as the platform writes them."""
        found = {name: values_at(answer, path) for name, path in part.definition.items()}
        form = {name: some[0] for name, some in found.items() if some}
        for name, call in part.more.items():
            form[name] = self.client.ask(call, values).body
        return form

    def _opened(self, part: ItemPart, form: Json) -> Json:
        return mask_secrets(opened(form, part.kind, self.ids), part.kind)

    def _listed(self, part: ItemPart, row: Json, etag: str = "", shown: Sequence[Json] = ()) -> Listed:
        paths = part.paths
        native = text_at(row, paths["id"])
        if not native:
            raise self.client.unlike()
        title, folder = text_at(row, paths["title"]), self.folders.of(row, paths.get("folder", ""))
        revision = paths.get("revision", "content")
        stamp = etag if revision == "etag" else text_at(row, revision) if revision != "content" else ""
        is_on = value_at(row, paths["on"]) if "on" in paths else None
        is_published, is_drafted = self._versions(part, row, shown)
        states = States(title, folder, None if is_on is None else is_on in (True, 1, "true", "on"), is_published)
        links = {"id": native, "uid": text_at(row, paths.get("uid")), "title": title}
        link = str(filled(paths.get("link", ""), links, is_path=True))
        return Listed(
            native_id=opened_id(native, part.kind.ids),
            kind=part.kind.kind,
            segments=(*(one for one in folder.split("/") if one), title),
            states=states,
            revision=stamp or digest([*shown, title, folder, is_on]),
            link=link if link.startswith("http") else f"{self.links}{link}",
            modified_at=moment_of(value_at(row, paths["changed_at"])) if "changed_at" in paths else None,
            modified_by=text_at(row, paths.get("changed_by")) or None,
            has_draft=is_drafted,
            is_drafted_only=is_published is False,
        )

    def _versions(self, part: ItemPart, row: Json, shown: Sequence[Json]) -> tuple[bool | None, bool]:
        """Whether there is a live version, and whether a draft beside it: as was looked at, else as the row says."""
        if not part.kind.is_published:
            return None, False
        if shown:
            return shown[0] is not None, shown[1] is not None
        return bool(value_at(row, part.paths["published"])), bool(value_at(row, part.paths["unpublished"]))

    def _seen(self, item: Seen) -> Single:
        """The item, if it is as somebody saw it: what the platform itself compares on writing, or this look does."""
        single = self._singles([item.native_id]).get(item.native_id)
        if single is None:
            raise EnvironmentRefused(
                f"{self.client.base_url} has no item {item.native_id!r} (any more).", subject=item.native_id
            )
        if single.row.revision != item.revision:
            raise RevisionMoved(
                f"{single.row.states.title!r} was changed in {self.client.base_url} meanwhile.",
                subject=item.native_id,
                next_step=advice("Run the same command again."),
            )
        return single

    def _values(self, part: ItemPart, native_id: str, row: Listed) -> dict[str, Json]:
        states = row.states
        id_ = closed_id(native_id, part.kind.ids)
        return {"id": id_, "title": states.title, "folder": states.folder, "revision": row.revision}

    def _refuse_danglings(self, leaving: Mapping[str, Single]) -> None:
        parts = self.sheet.items
        kinds = {single.row.kind for single in leaving.values()}
        takes = [one for kind in kinds if (call := parts[kind].retire) for one in call.said("takes", [])]
        looked = users([part.kind for part in parts.values()], kinds) | {one.get("kind", "") for one in takes}
        rows = [row for kind in sorted(looked & parts.keys()) for row in self._listed_kind(parts[kind])]
        singles = self._singles([row.native_id for row in rows if row.native_id not in leaving])
        others = [self._standing(single) for single in singles.values()]
        for one in takes:
            refuse_taking(others, one, leaving)
        refuse_danglings(others, leaving)

    def _standing(self, single: Single) -> Standing:
        forms = tuple(form for form in (single.live, single.draft) if form is not None)
        row = single.row
        return Standing(row.native_id, row.states.title, self.sheet.items[row.kind].kind, forms)

    def _able(self, call: Call | None, row: Listed, words: str) -> Call:
        if call is None:
            raise self._unable(row.states.title, row.kind, words)
        return call

    def _unable(self, title: str, kind: str, words: str) -> EnvironmentRefused:
        return EnvironmentRefused(
            f"{title}: the bridge sheet doesn't say how to {words} a {kind}.",
            subject=title,
            place=self.sheet.file,
            next_step=advice("Do it there by hand."),
        )

    def _do(self, call: Call, part: ItemPart, single: Single) -> None:
        values = self._values(part, single.row.native_id, single.row)
        self.client.change(call, values, headers=_match(call, single))


def uid_of(token: str) -> str:
    """The uid of what a creation with this token makes: the same every time it is asked for."""
    return str(uuid.uuid5(uuid.NAMESPACE_URL, f"amphora:{token}"))


def _match(call: Call, single: Single) -> dict[str, str]:
    return {"If-Match": single.etag} if call.said("match") == "etag" and single.etag else {}
