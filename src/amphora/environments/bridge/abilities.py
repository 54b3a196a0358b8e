"""What only some platforms can do: each a class of its own, so that others ask by looking for its methods."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from urllib.parse import unquote

from amphora.core.form.native_ids import closed_id
from amphora.core.form.objects import PART_MARK
from amphora.core.form.places import values_at
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.environments.bridge.adapter import Bridge, written_of
from amphora.environments.bridge.bodies import uid_of
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.departure import led_along
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.parts import BridgeSheet, Call
from amphora.environments.bridge.paths import text_at, value_at
from amphora.environments.bridge.rows import Holding
from amphora.environments.contract import Probe, Seen, Written


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
        return led_along(self.sheet, self.items, self.items.singles(native_ids))


class Emptying(Bridge):
    """New items into which the platform puts something by itself."""

    def finish_creation(self, native_id: str, is_answered: bool) -> None:
        # What is to go into it has to find what the platform has put there.
        self._new.add(native_id)
        if is_answered:
            return
        if (single := self.items.singles([native_id]).get(native_id)) and (part := self._part(single)).brings:
            self._taken_away(part, single)


class Switching(Bridge):
    """Items that are on or off."""

    def switch(self, item: Seen, is_on: bool) -> None:
        single = self.items.seen([item])[item.native_id]
        self._turn(single, is_on)


class Probing(Bridge):
    """A look through connections."""

    def probe(self, connection: str, objects: Sequence[str]) -> Probe:
        part = next((part for part in self.sheet.supplies if part.kind == "connection" and part.probe), None)
        if part is None or part.probe is None:
            return Probe()
        values: dict[str, Json] = {"id": closed_id(connection, self.ids[part.kind])}
        # A refusal is an answer: that it doesn't work is what was asked for.
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
        # Each object once, however many of its columns are used.
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


class Recognising(Bridge):
    """Creations that can be asked after, by the uid that we gave them."""

    def answered(self, token: str) -> Written | None:
        for part in self.sheet.items.values():
            if not part.known_by:
                continue
            for row in self.items.rows_of(part):
                if text_at(row, part.known_by) == uid_of(token):
                    single = self.items.single(part, part.id_in(row))
                    return written_of(single) if single else None
        return None


def bridged(client: Client, sheet: BridgeSheet, account: str) -> Bridge:
    """An environment with just the abilities that its sheet describes."""
    parts = sheet.items.values()
    able = {
        Publishing: any(part.publish for part in parts),
        Emptying: any(part.brings for part in parts),
        Switching: any(part.is_switched for part in parts),
        Taking: any(part.retire and part.retire.said("takes", []) for part in parts),
        Holding: any(part.rows for part in parts),
        Probing: any(supply.probe for supply in sheet.supplies),
        # Half of the kinds would be half of an answer.
        Recognising: all(part.create is None or bool(part.known_by) for part in parts),
    }
    bases = tuple(kind for kind, is_able in able.items() if is_able)
    made: type[Bridge] = type("Bridge", bases or (Bridge,), {})
    return made(client, sheet, account)
