"""Calls on one item of a platform, and the looks that go with them: what every change is made of."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import nullcontext

from amphora.core.form.hollow import changes_hands, let_go
from amphora.core.form.kinds import Ids
from amphora.core.form.native_ids import closed_id, in_space
from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.environments.bridge import apart, members
from amphora.environments.bridge.answer import Answer
from amphora.environments.bridge.bodies import Bodies
from amphora.environments.bridge.circles import as_it_is
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.folders import Folders
from amphora.environments.bridge.hold import held
from amphora.environments.bridge.items import Items
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.parts import BridgeSheet, Call, ItemPart
from amphora.environments.bridge.sameness import Sameness
from amphora.environments.bridge.single import Single, moved
from amphora.environments.contract import Write

LET_GO = "some of its parts were let go of"
PATCHES = {"merge patch": "application/merge-patch+json", "json patch": "application/json-patch+json"}
"""Media types of changes that are no whole items (RFC 7396, RFC 6902)."""


class Acts:
    """Whoever acts on items by a sheet: the line to the platform, what it shows, and what is sent to it."""

    def __init__(self, client: Client, sheet: BridgeSheet, account: str = "") -> None:
        self.client, self.sheet = client, sheet
        self._account = account
        self.ids: dict[str, Ids] = {kind: part.kind.ids for kind, part in sheet.items.items()}
        for supply in sheet.supplies:
            ids = Ids(supply.space, supply.is_number)
            # People and groups are both persons, and counted apart.
            self.ids |= {in_space(supply.kind, supply.space): ids, supply.kind: self.ids.get(supply.kind, ids)}
        # Apart from the API: people open items on the host that has the pages.
        self.links = (sheet.links or "{address}").replace("{address}", client.base_url).rstrip("/")
        folders = Folders(client, sheet)
        self.items = Items(client, sheet, self.ids, folders, self.links)
        self.bodies = Bodies(sheet, self.ids, folders, self.items)
        self._sameness = Sameness(self.items, client.base_url, sheet.file)

    def _still(self, single: Single) -> Single:
        """An item after something that changes at most its revision. RevisionMoved where more is another."""
        now = self._again(single)
        if (now.row.states, now.live, now.draft) != (single.row.states, single.live, single.draft):
            raise moved(self.client.base_url, single)
        return now

    def _switched_back(self, single: Single, was_on: bool) -> Single:
        """What a call switched along is switched back: on and off are decided by steps of their own."""
        # Only where the sheet has both calls: half a switch would leave it on.
        is_on, part = single.row.states.is_on, self._part(single)
        if is_on is None or is_on is was_on or was_on not in {**part.switch, **part.switched}:
            return single
        self._turn(single, was_on)
        return self._again(single)

    def _turn(self, single: Single, is_on: bool) -> None:
        """Switches an item, by a call of its own or by a change of nothing else."""
        part, row = self._part(single), single.row
        if not part.switched:
            return self._do(part.switch.get(is_on), single, "switch")
        call = self._able(part.update, row.states.title, "change", row.kind)
        as_it_is = Write(row.kind, row.segments, row.states, single.newest, "", row.native_id, row.revision)
        body = self.bodies.of(part, as_it_is, call, single, is_on=is_on)
        with held(self._change, call, self._values(single), "it was switched") as more:
            now = self._still(single) if call.said("first", None) else single
            self._change(call, more | self._values(now), body, self._headers(call, now))
        return None

    def _let_go(self, write: Write, call: Call, single: Single, more: Mapping[str, Json]) -> Single:
        """The item after a call by which it lets go of the parts that are named by other places after a change; as it
        is where there are none."""
        sheet = self._part(single).kind
        if not changes_hands(single.newest, write.definition, sheet):
            return single
        self._put_down(as_it_is(single, let_go(single.newest, sheet)), call, single, more)
        with taken(LET_GO):
            return self._again(single)

    def _taken_up(self, was: Single, write: Write, call: Call, more: Mapping[str, Json]) -> None:
        """The inverse, where what came after it was refused; Uncertain where that is refused, too."""
        if not changes_hands(was.newest, write.definition, self._part(was).kind):
            return
        with taken(LET_GO):
            now = self._again(was)
            if now.newest == let_go(was.newest, self._part(was).kind):
                self._put_down(as_it_is(now, was.newest), call, now, more)

    def _put_down(self, write: Write, call: Call, single: Single, more: Mapping[str, Json]) -> None:
        body = self.bodies.changing(self._part(single), write, call, single)
        self._change(call, {**more, **self._values(single)}, body, self._headers(call, single))

    def _change(
        self, call: Call, values: Mapping[str, Json], body: Json = None, headers: Mapping[str, str] | None = None
    ) -> Answer:
        try:
            return self.client.change(call, values, body, headers)
        finally:
            # Also one that is refused may have changed what something is called.
            self.items.names.forget()

    def _again(self, single: Single) -> Single:
        """The item as it is now, after a call."""
        native_id = single.row.native_id
        after = self.items.singles([native_id]).get(native_id) or self.items.shown(
            self._part(single), str(closed_id(native_id, self._part(single).kind.ids))
        )
        if after is None:
            # Not read as `gone`: what vanishes right after a call may only be late.
            title = single.row.states.title
            raise Uncertain(f"{self.client.base_url} does not show {title!r} any more.", subject=native_id)
        return after

    def _part(self, single: Single) -> ItemPart:
        return self.sheet.items[single.row.kind]

    def _values(self, single: Single) -> dict[str, Json]:
        """What stands for placeholders in calls on an item."""
        row, ids = single.row, self._part(single).kind.ids
        states = row.states
        values = self.items.holders.values_of(self._part(single), str(closed_id(row.native_id, ids)))
        revision = row.revision if single.stamp is None else single.stamp
        return {**values, "title": states.title, "folder": states.folder, "revision": revision}

    def _able(self, call: Call | None, title: str, words: str, kind: str) -> Call:
        if call is None:
            raise EnvironmentRefused(
                f"{title}: the bridge sheet doesn't say how to {words} a {kind}.",
                subject=title,
                place=self.sheet.file,
                next_step=advice("Do it there by hand."),
            )
        return call

    def _match(self, call: Call, single: Single) -> dict[str, str]:
        if call.said("match") != "etag":
            return {}
        # Without one the call would go through over whatever somebody has done meanwhile.
        if not single.etag:
            raise self.client.otherwise(self._part(single).read, 'there is no ETag, which match = "etag" needs')
        return {"If-Match": single.etag}

    def _headers(self, call: Call, single: Single) -> dict[str, str]:
        """What is sent beside the body of a change."""
        # Some platforms take a PUT like that: what is left out stays, and null takes it away.
        how = call.said("how")
        is_patch = how == "json patch" or (how == "merge patch" and call.method == "PATCH")
        return self._match(call, single) | ({"Content-Type": PATCHES[how]} if is_patch else {})

    def _do(self, call: Call | None, single: Single, words: str, more: Mapping[str, Json] | None = None) -> None:
        """A call on an item that needs no body of ours."""
        row = single.row
        able = self._able(call, row.states.title, words, row.kind)
        self._change(able, {**(more or {}), **self._values(single)}, headers=self._match(able, single))

    def _remove(self, single: Single) -> None:
        part, values = self._part(single), self._values(single)
        emptied = part.retire.said("empties", []) if part.retire else []
        count = 0
        for name in emptied:
            for entry in members.entries_of(self.client, part, name, values):
                # From the first one on it is no longer what it was.
                with taken(f"{count} of what it holds are gone") if count else nullcontext():
                    apart.removed(self.client, part, name, entry, values)
                count += 1
        with taken("what it holds is gone") if count else nullcontext():
            retire = self._able(part.retire, single.row.states.title, "remove", single.row.kind)
            # Some platforms only put away what is removed, and keep its name, until that is said once more: `then`.
            with held(self._change, retire, values, "it was removed") as more:
                self._do(retire, self._again(single) if retire.said("first", None) else single, "remove", more)
        self.items.forget(single.row.native_id)
        self._sameness.forget(single.row.native_id)
