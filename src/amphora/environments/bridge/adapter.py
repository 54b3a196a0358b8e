"""The Environment protocol over a platform that a bridge sheet describes."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import replace

from amphora.core.form.kinds import Ids
from amphora.core.form.native import laid_over
from amphora.core.form.native_ids import closed_id, style_of
from amphora.core.form.places import values_at
from amphora.core.form.settled import without_volatile
from amphora.core.plan.states import Image
from amphora.core.values.canon import loose_digest
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved, Unavailable, Uncertain
from amphora.core.values.model import Found, Json, Listed, Supply
from amphora.environments.bridge import apart, lines
from amphora.environments.bridge.bodies import uid_of
from amphora.environments.bridge.byproducts import Byproducts
from amphora.environments.bridge.circles import removed_from
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.departure import refuse_departure, takes_of
from amphora.environments.bridge.hold import held
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.offers import offered
from amphora.environments.bridge.parts import BridgeSheet, Call, ItemPart
from amphora.environments.bridge.paths import text_at
from amphora.environments.bridge.removal import in_order, taken_along, users_of
from amphora.environments.bridge.single import Single
from amphora.environments.bridge.slips import slips_of
from amphora.environments.contract import NEXT, Capabilities, Description, Identity, Seen, Take, Write, Written

ALL = frozenset({"read", "write", "publish", "switch", "retire", "grant"})


class Bridge(Byproducts):
    """An environment by description. What only some platforms can do stands in classes of their own, below."""

    def __init__(self, client: Client, sheet: BridgeSheet, account: str = "") -> None:
        super().__init__(client, sheet, account)
        # What rows that were loaded are called here, by what they were called where they come from.
        self.row_ids: dict[str, dict[str, Json]] = {}

    def describe(self) -> Description:
        about = {name: text_at(self.client.ask(call).body, "$") for name, call in self.sheet.about.items()}
        # By address where it says nothing of itself: what else would stay the same through all changes?
        by_address = f"{self.sheet.name}-" + hashlib.sha256(self.client.base_url.encode()).hexdigest()[:16]
        uid = "/".join([about.get("uid") or by_address, *self.sheet.own.values()])
        parts = self.sheet.items.values()
        return Description(
            uid=uid,
            release=about.get("release", ""),
            region=about.get("region", ""),
            base_url=self.links,
            capabilities=Capabilities(
                # No REST interface that we know writes many items in one call, all or none.
                is_atomic=False,
                keeps_ids=False,
                has_drafts=any(part.kind.is_published for part in parts),
                writes_states=False,
                takes_back=any(part.take_back for part in parts),
                has_rows=any(part.rows for part in parts),
                fills_in=True,
                loads_in_pieces=True,
                is_guarded=all(part.is_guarded for part in parts),
            ),
            id_style=style_of(self.ids),
            sheets={
                kind: replace(part.kind, reads=frozenset((*part.definition, *part.more)))
                for kind, part in self.sheet.items.items()
            },
            tried=self.sheet.tried,
            rests=rests_of(parts),
            unlisted={one.kind: Ids(one.space, one.is_number) for one in self.sheet.supplies if not one.is_complete},
            apart={part.kind.kind: tuple(part.apart) for part in parts if part.apart or part.is_switched},
        )

    def whoami(self) -> Identity:
        # What the sheet can't do the account can't either, whatever it is allowed.
        call, can = self.sheet.account, self._described()
        if call is None:
            return Identity(self._account or "nobody", "", can)
        answer = self.client.ask(call).body
        where = call.said("name") or "$.name"
        names = [text_at(answer, path) for path in (where if isinstance(where, list) else [where])]
        name = " ".join(filter(None, names)) or self._account
        # Rights by the platform's own names; ours would have to be guessed from them.
        allows = call.said("allows", {})
        # Where nobody tells what the account may, everything is tried, and refused there if need be.
        if not call.said("rights"):
            return Identity(name, "", can)
        rights = {str(right) for right in values_at(answer, call.said("rights"))}
        may = {permission for permission, names in allows.items() if rights & set(names)}
        # A platform that tells nothing apart there gives access to whoever may write.
        may |= {"grant"} if "grant" not in allows and ("write" in may or "write" not in allows) else set()
        lacks = frozenset(
            (permission, kind)
            for kind, part in self.sheet.items.items()
            for permission, names in part.required.items()
            if not rights & set(names)
        )
        # Only what the sheet lists needs a right.
        return Identity(name, ", ".join(sorted(rights)[:5]), can & (may | (ALL - {*allows, "grant"})), lacks=lacks)

    def _described(self) -> frozenset[str]:
        """What the sheet describes for every kind that is carried: what can't be done is refused before the start,
        and not in the middle."""
        carried = [part for part in self.sheet.items.values() if part.kind.is_carried]
        can = set(ALL)
        can -= {"write", "grant"} if any(part.create is None for part in carried) else set()
        return frozenset(can - ({"retire"} if any(part.retire is None for part in carried) else set()))

    def index(self) -> list[Listed]:
        return self.items.index()

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        # Side by side where the platform bears it: one call each takes a minute for a hundred.
        found = self.items.singles(native_ids)
        # Once more, for whoever reads has seen them in the list: under load some platforms deny what they hold.
        found |= self.items.singles([id_ for id_ in native_ids if id_ not in found])
        if missing := [id_ for id_ in native_ids if id_ not in found]:
            raise EnvironmentRefused(f"{self.client.base_url} has no item {missing[0]!r}.", subject=missing[0])
        return [
            Found(one.row, one.draft if (take == "draft" or one.live is None) and one.draft is not None else one.live)
            for one in (found[id_] for id_ in native_ids)
        ]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        return {id_: Image.of(one.row, one.live, one.draft) for id_, one in self.items.singles(native_ids).items()}

    def supplies(self) -> list[Supply]:
        return list(offered(self.client, self.sheet))

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return [self._create(write) if write.is_new else self._update(write) for write in writes]

    def retire(self, items: Sequence[Seen]) -> None:
        # All looked at before the first one goes: half a set is worse than none.
        there = self.items.seen(items)
        refuse_departure(self.sheet, self.items, there)
        standing = [self.items.standing(single) for single in there.values()]
        along = taken_along(standing, takes_of(self.sheet, there), there)
        parts = {one.native_id for one in standing if self.sheet.goes_along(one.sheet.kind, *one.forms)}
        if stuck := [one for one in standing if one.native_id in parts - along.keys()]:
            raise EnvironmentRefused(
                f"{stuck[0].title!r} goes only with what holds it.",
                subject=stuck[0].native_id,
                next_step=NEXT["in-use"],
            )
        # Users before what they use: a platform that refuses what is in use is asked in an order that it takes.
        order = in_order(standing, along)
        # What goes only with what holds it is not asked for: it goes with that.
        order = [one for one in order if one.native_id not in parts]
        for number, one in enumerate(order):
            # When some are gone, whoever asked for all or none has to look.
            with taken(f"{number} of {len(there)} are gone") if number else nullcontext():
                try:
                    self._remove(there[one.native_id])
                except EnvironmentRefused:
                    # In a circle there is no such order: what is to go as well lets go of it first.
                    if not (users := users_of(one, order[number:])):
                        raise
                    removed_from(users, there[one.native_id], there, self._remove, self._rewritten)

    def _rewritten(self, write: Write, single: Single, goes_live: bool) -> Single:
        self._update(write)
        with taken("it was written"):
            after = self._again(single)
            # On some platforms what is live names others still, whatever its draft says.
            is_half = goes_live and single.live is not None and after.draft is not None
            if is_half and (publish := self._part(single).publish):
                self._do(publish, after, "publish")
                after = self._again(after)
            return after

    def finish_removal(self, kind: str, native_id: str) -> bool:
        part = self.sheet.items[kind]
        then: Call | None = part.retire.said("then", None) if part.retire else None
        if then is None:
            return False
        try:
            self._change(then, self.items.holders.values_of(part, str(closed_id(native_id, part.kind.ids))))
        except EnvironmentRefused:
            return False
        return True

    def at_once(self) -> int:
        return self.client.pace.now

    def close(self) -> None:
        self.client.close()

    def _create(self, write: Write) -> Written:
        part, title = self.sheet.items[write.kind], write.states.title
        write = replace(write, definition=without_volatile(write.definition, part.kind))
        call = self._able(part.create, title, "make", write.kind)
        if brought := self._in_its_place(part, write):
            return self._update(self._laid(write, brought))
        uid = uid_of(write.token)
        body = self.bodies.of(part, write, call, uid=uid if call.said("uid") else "")
        values = {"title": title, "folder": write.states.folder, "uid": uid, **self.bodies.holder(part, write)}
        self._sameness.refuse_before(part, call, body, title, values.get("parent"))
        where = call.said("id") or part.paths["id"]
        # Looked at before as well: what is new of that name is ours, unless somebody made another one just then.
        there = self.items.called(part) if where == lines.IN_LIST else {}
        started = time.monotonic()
        with held(self._change, call, values, "it was made") as more:
            answer = self._change(call, more, apart.attached(part, call, body, title))
        if job := call.said("job", None):
            where = job.said("id") or where
        with taken("it was made"):
            if where == lines.IN_LIST:
                native = self.items.new_in(part, title, there)
            else:
                native = self.client.made(
                    answer, where, call.said("id_form") if where == call.said("id") else "", part.paths
                )
            # Some take the id that they are given in the path, and need not say it again.
            native = native or (uid if call.says_id else "")
            if part.within and native:
                native = self.items.holders.made(part, native, values["parent"])
            single = self.items.shown(part, native) if native else None
            if single is None:
                raise Uncertain(f"{self.client.base_url} made {title!r}, and does not show it.", subject=title)
        self._sameness.refuse_after(part, single.row, title, started, write.token)
        self._refuse_renamed(part, single, title)
        if part.brings:
            with self._or_none(single):
                single = self._taken_away(part, single)
        if call.said("follow", False) or self.bodies.lacks(part, write, None):
            with self._or_none(single):
                return self._update(self._laid(write, single))
        if any(how.is_written for how in part.apart.values()):
            with self._or_none(single):
                self._written_apart(self._laid(write, single), single)
                return written_of(self._switched_back(self._again(single), False))
        with taken("it was made"):
            return written_of(self._switched_back(single, False))

    def _refuse_renamed(self, part: ItemPart, single: Single, title: str) -> None:
        """Takes back what was made under another name because somebody has the one that was asked for: some platforms
        rename instead of refusing, and then the next import would find neither."""
        called = single.row.states.title
        if called == title or part.retire is None:
            return
        with taken("it was made"):
            # A platform that tidies every title has renamed nothing.
            if not self.items.ids_called(part, title):
                return
            # Some are on as soon as they are made, and can't be removed while they are.
            self._remove(self._switched_back(single, False))
        raise EnvironmentRefused(
            f"{self.client.base_url} has a {part.kind.singular} called {title!r}, and made {called!r} instead; "
            "that was taken away again.",
            subject=title,
            next_step=NEXT["taken"],
        )

    def _laid(self, write: Write, single: Single) -> Write:
        """A creation as a change of what it made: the platform has filled in ids of parts meanwhile, and some members
        are taken only from what is there already."""
        row = single.row
        return replace(self._over(write, single), native_id=row.native_id, revision=row.revision)

    def _over(self, write: Write, single: Single) -> Write:
        """A change of what is there. What is to be as it was once has numbers in it that the platform has given to
        something else since, or to nothing."""
        return replace(write, definition=laid_over(write.definition, single.newest, self._part(single).kind))

    @contextmanager
    def _or_none(self, single: Single) -> Iterator[None]:
        """Takes a creation back where the rest of it is refused, or nobody knows: half an item is none, and nobody
        could tell later whose it is."""
        try:
            yield
        except (EnvironmentRefused, RevisionMoved, Unavailable, Uncertain):
            with taken("half of it was made"):
                # As it is by now: what came after the first call has changed it.
                # Without the looks of a removal: nobody has put anything into it, and nobody uses it.
                self._remove(self._switched_back(self._again(single), False))
            raise

    def slips(self, native_ids: Sequence[str]) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
        return slips_of(self.sheet.items, self.items.singles(native_ids).values())

    def own_calls(self, kind: str) -> frozenset[str]:
        return frozenset(self.sheet.items[kind].apart)

    def unsent(self, kind: str) -> frozenset[str]:
        return self.sheet.items[kind].unsent

    def names_gone(self, kind: str) -> bool:
        update = self.sheet.items[kind].update
        return update is not None and update.said("how", "whole") != "whole"

    def goes_along(self, kind: str, definition: Json) -> bool:
        return self.sheet.goes_along(kind, definition)

    def is_guarded(self, kind: str) -> bool:
        return self.sheet.items[kind].is_guarded

    def overtaken(self, item: Write, between: Callable[[], object]) -> Written:
        return self._update(item, between)

    def _update(self, write: Write, between: Callable[[], object] = lambda: None) -> Written:
        seen = Seen(str(write.native_id), str(write.revision))
        single = self.items.seen([seen])[seen.native_id]
        write = self._over(write, single)
        is_half = self.bodies.lacks(self._part(single), write, single)
        self._put(write, single, between)
        with taken("it was written"):
            single = self._sameness.found_again(self._part(single), single, write.states.title)
        try:
            self._written_apart(write, single)
            if is_half:
                # By now they have ids.
                now = self._again(single)
                self._put(self._laid(write, now), now)
                self._written_apart(self._laid(write, now), now)
        except (EnvironmentRefused, RevisionMoved, Unavailable, Uncertain):
            # Half of a change is nobody's state: not what was there, and not what was meant.
            with taken("it was written"):
                if not self._is_back(write, single):
                    raise
            raise
        with taken("it was written"):
            return written_of(self._switched_back(self._again(single), bool(single.row.states.is_on)))

    def _put(self, write: Write, single: Single, between: Callable[[], object] = lambda: None) -> None:
        part = self._part(single)
        call = self._able(part.update, write.states.title, "change", write.kind)
        # Before anything is taken hold of: a change that can't be is refused, and nothing was asked.
        body = self.bodies.changing(part, write, call, single)
        between()
        with held(self._change, call, self._values(single), "it was written") as more:
            # Looked at once more: from here on nobody else can change it, and taking hold of it may have.
            was = self._still(single) if call.said("first", None) else single
            try:
                now = self._named_anew(write, call, was, more)
                now = self._let_go(write, call, now, more)
                body = body if now is single else self.bodies.changing(part, write, call, now)
                # A list of no operations is no change, and many refuse it.
                if body or call.said("how") != "json patch":
                    self._change(call, more | self._values(now), body, self._headers(call, now))
            except (EnvironmentRefused, RevisionMoved, Unavailable):
                self._taken_up(was, write, call, more)
                if call.said("titled") or call.said("moved"):
                    with taken("it was called otherwise"):
                        back = replace(write, states=was.row.states)
                        self._named_anew(back, call, self._again(was), more)
                raise

    def _named_anew(self, write: Write, call: Call, single: Single, more: Mapping[str, Json]) -> Single:
        """The item with the title and in the folder that it is to have, where these have calls of their own."""
        was, wanted = single.row.states, write.states
        ways = (("titled", was.title, wanted.title), ("moved", was.folder, wanted.folder))
        calls = [named for how, before, after in ways if before != after and (named := call.said(how, None))]
        for named in calls:
            values = {**more, **self._values(single), "title": wanted.title, "folder": self.bodies.folder(write)}
            self._change(named, values, headers=self._match(named, single))
            with taken("it was called otherwise"):
                single = self._again(self._sameness.found_again(self._part(single), single, wanted.title))
        return single

    def _is_back(self, write: Write, before: Single) -> bool:
        """Writes an item as it was before a change that stopped in its middle, and looks whether it is."""
        was = replace(write, definition=before.newest, states=before.row.states)
        with suppress(AmphoraError):
            now = self._again(before)
            was = self._over(was, now)
            self._put(was, now)
            self._written_apart(was, now)
            after = self._again(before)
            publish = self._part(before).publish
            # A draft that says what is live is none for us, and unpublished work for whoever looks there.
            if publish and before.live is not None and before.draft is None:
                with suppress(EnvironmentRefused):
                    self._do(publish, after, "publish")
                after = self._switched_back(self._again(before), bool(before.row.states.is_on))
            versions = [loose_digest([one.live, one.draft]) for one in (before, after)]
            return after.row.states == before.row.states and versions[0] == versions[1]
        return False

    def _written_apart(self, write: Write, single: Single) -> None:
        part, values = self._part(single), self._values(single)
        apart.written(self.client, part, self.bodies, write, single, values)


def rests_of(parts: Iterable[ItemPart]) -> frozenset[tuple[str, str]]:
    """What is refused of which kinds while their items are on."""
    calls = [(what, part.kind.kind, call) for part in parts for what, call in part.changing if call]
    return frozenset((what, kind) for what, kind, call in calls if call.said("when", "any") == "off")


def written_of(single: Single) -> Written:
    """What became of a write to this item."""
    return Written(single.row.native_id, single.row.revision, single.row.link)
