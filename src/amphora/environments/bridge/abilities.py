"""What only some platforms can do: each a class of its own, so that others ask by looking for its methods."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import nullcontext
from functools import reduce
from itertools import islice
from urllib.parse import unquote

from amphora.core.form.objects import PART_MARK
from amphora.core.form.opened import closed_id
from amphora.core.form.places import values_at
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.environments.bridge.adapter import Bridge, uid_of, written_of
from amphora.environments.bridge.client import Answer, Client
from amphora.environments.bridge.items import Single
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.paths import changed_at, dropped, text_at, value_at
from amphora.environments.bridge.removal import taken_along
from amphora.environments.bridge.sheet import BridgeSheet, Call, RowsPart
from amphora.environments.contract import Probe, Seen, Written

_MEMBER = re.compile(r"\{([^{}]+)\}")


class Publishing(Bridge):
    """Drafts beside live versions."""

    def publish(self, item: Seen) -> None:
        """Makes the draft live, and leaves it on or off as it was."""
        single = self.items.seen([item])[item.native_id]
        self._do(self._part(single).publish, single, "publish")
        with taken("it was published"):
            self._switched_back(self._again(single), bool(single.row.states.is_on))

    def take_back(self, item: Seen) -> None:
        single = self.items.seen([item])[item.native_id]
        self._do(self._part(single).take_back, single, "take back")


class Taking(Bridge):
    """Removals that take others along."""

    def along(self, native_ids: Sequence[str]) -> dict[str, str]:
        there = self.items.singles(native_ids)
        return taken_along(self._others(self._taken_kinds(there), there), self._takes(there), there)


class Switching(Bridge):
    """Items that are on or off."""

    def switch(self, item: Seen, is_on: bool) -> None:
        single = self.items.seen([item])[item.native_id]
        self._do(self._part(single).switch.get(is_on), single, "switch")


class Probing(Bridge):
    """A look through connections."""

    def probe(self, connection: str, objects: Sequence[str]) -> Probe:
        part = next((part for part in self.sheet.supplies if part.kind == "connection" and part.probe), None)
        if part is None or part.probe is None:
            return Probe()
        values: dict[str, Json] = {"id": closed_id(connection, self.ids[part.kind])}
        try:
            answer = self.client.ask(part.probe, values)
        except EnvironmentRefused as error:
            return Probe(False, (), error.message)
        works = part.probe.said("works")
        is_working = bool(value_at(answer.body, works)) if works else True
        if not objects or part.objects is None or not is_working:
            return Probe(is_working, (), "" if is_working else "it does not answer")
        return Probe(True, tuple(self._missing(part.objects, values, objects)))

    def _missing(self, call: Call, values: Mapping[str, Json], objects: Sequence[str]) -> Iterator[str]:
        """What is not on the other end: of one list of all, or asked for object by object, with their parts."""
        if "{object}" not in call.path:
            held = {str(name) for name in values_at(self.client.ask(call, values).body, call.said("names") or "$[*]")}
            yield from (name for name in objects if unquote(name) not in held)
            return
        parts: dict[str, list[str]] = {}
        for name in objects:
            whole, _, part = name.partition(PART_MARK)
            parts.setdefault(whole, []).extend([part] if part else [])
        for whole, wanted in parts.items():
            above, _, last = whole.rpartition("/")
            try:
                answer = self.client.ask(call, {**values, "object": unquote(last), "above": unquote(above)})
            except EnvironmentRefused:
                yield whole
                continue
            names = call.said("parts")
            found = {str(name) for name in values_at(answer.body, names)} if names else None
            # Some platforms describe what isn't there too, as something without parts.
            if found == set():
                yield whole
            elif found is not None:
                yield from (f"{whole}{PART_MARK}{part}" for part in wanted if part not in found)


class Holding(Bridge):
    """Items that hold rows."""

    def records(self, native_id: str) -> Iterator[Json]:
        """The rows, without what only the platform writes."""
        part, values = self._holder(native_id)
        for row in self.client.each(part.read, values):
            for path in part.without:
                row = dropped(row, path)
            yield row

    def load(self, native_id: str, rows: Iterator[Json], comes_back: bool = False) -> int:
        """Fills an empty item. Some pieces may be there when a later one is refused: then nobody knows but by
        looking, and whoever made the item removes it with them."""
        part, values = self._holder(native_id)
        single = self.items.singles([native_id])[native_id]
        if held := single.row.rows:
            raise EnvironmentRefused(f"{native_id} holds {held:,} rows already.", subject=native_id)
        if part.load is None:
            raise EnvironmentRefused("The bridge sheet doesn't say how rows are loaded.", place=self.sheet.file)
        known = self.row_ids.setdefault(native_id, {})
        links = [(at, self._called_here(single, other, comes_back)) for at, other in links_of(part, single.newest)]
        count = 0
        for some in _pieces(rows, part.at_once):
            bare = (dropped(row, part.id) if part.id else row for row in some)
            sent = [reduce(lambda row, link: changed_at(row, *link), links, row) for row in bare]
            piece: dict[str, Json] = {**values, "rows": sent, "row": sent[0]}
            with taken(f"{count:,} rows were there") if count else nullcontext():
                answer = self.client.change(part.load, piece, None if part.load.body is not None else sent)
            with taken("rows were loaded"):
                known |= self._new_ids(part, some, answer)
            count += len(some)
        return count

    def _new_ids(self, part: RowsPart, rows: Sequence[Json], answer: Answer) -> dict[str, Json]:
        """What rows that were just loaded are called here."""
        if not part.ids:
            return {}
        new = values_at(answer.body, part.ids)
        if len(new) != len(rows):
            raise EnvironmentRefused(f"{self.client.base_url} took {len(rows)} rows, and names {len(new)}.")
        return {text_at(row, part.id): id_ for row, id_ in zip(rows, new, strict=True)}

    def _called_here(self, single: Single, other: str, comes_back: bool) -> Callable[[Json], Json]:
        """What rows of another item are called here. Refused where nobody knows: a number that means another row here
        would be wrong without anybody noticing."""
        known, title = self.row_ids.get(other), single.row.states.title
        if known is None and not comes_back:
            words = f"Rows of {title!r} name rows of {other}, which are not loaded by the same run"
            raise EnvironmentRefused(
                f"{words}: nobody knows what these are called here.",
                subject=single.row.native_id,
                next_step=advice("Take both along with their rows while they are new, or neither."),
            )

        def called(row: Json) -> Json:
            if known is None or row in (None, "") or str(row) in known:
                return row if known is None or row in (None, "") else known[str(row)]
            if other == single.row.native_id:
                # Its own rows come in their order: one that is named before it is there has no name yet.
                raise EnvironmentRefused(f"A row of {title!r} names another one behind it ({row}).", subject=other)
            # It is gone at home as well.
            return None

        return called

    def _holder(self, native_id: str) -> tuple[RowsPart, dict[str, Json]]:
        single = self.items.singles([native_id]).get(native_id)
        part = self._part(single).rows if single else None
        if single is None or part is None:
            raise EnvironmentRefused(f"{native_id} holds no rows.", subject=native_id)
        return part, self._values(single)


def links_of(part: RowsPart, definition: Json) -> Iterator[tuple[str, str]]:
    """Where rows of an item name other rows, and of which item those are."""
    for link in part.links:
        for place in values_at(definition, link.each):
            members = place if isinstance(place, dict) else {}
            at = _MEMBER.sub(lambda found, of=members: _in_quotes(of.get(found[1])), link.at)  # type: ignore[misc]
            if isinstance(other := value_at(place, link.of), str) and other:
                yield at, other


def _in_quotes(name: Json) -> str:
    """A name as it stands between single quotes (RFC 9535, section 2.3.1.1): a column may be called anything."""
    return str("" if name is None else name).replace("\\", "\\\\").replace("'", "\\'")


def _pieces(rows: Iterator[Json], size: int) -> Iterator[list[Json]]:
    while some := list(islice(rows, size)):
        yield some


class Recognising(Bridge):
    """Creations that can be asked after, by the uid that we gave them."""

    def answered(self, token: str) -> Written | None:
        for part in self.sheet.items.values():
            if part.create is None or not part.create.said("uid"):
                continue
            for row in self.client.rows(part.index):
                if text_at(row, part.paths["uid"]) == uid_of(token):
                    single = self.items.single(part, text_at(row, part.paths["id"]))
                    return written_of(single) if single else None
        return None


def bridged(client: Client, sheet: BridgeSheet, account: str) -> Bridge:
    """An environment with just the abilities that its sheet describes."""
    parts = sheet.items.values()
    able = {
        Publishing: any(part.publish for part in parts),
        Switching: any(part.switch for part in parts),
        Taking: any(part.retire and part.retire.said("takes", []) for part in parts),
        Holding: any(part.rows for part in parts),
        Probing: any(supply.probe for supply in sheet.supplies),
        # Half of the kinds would be half of an answer.
        Recognising: all(part.create is None or bool(part.create.said("uid")) for part in parts),
    }
    bases = tuple(kind for kind, is_able in able.items() if is_able)
    made: type[Bridge] = type("Bridge", bases or (Bridge,), {})
    return made(client, sheet, account)
