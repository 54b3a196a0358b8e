"""What only some platforms can do: each a class of its own, so that others ask by looking for its methods."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.form.opened import closed_id
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.environments.bridge.adapter import Bridge, uid_of, written_of
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.paths import text_at, value_at, values_at
from amphora.environments.bridge.sheet import BridgeSheet
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
        answer = self.client.ask(part.objects, values)
        held = {str(name) for name in values_at(answer.body, part.objects.said("names") or "$[*]")}
        return Probe(True, tuple(name for name in objects if name not in held))


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
        Probing: any(supply.probe for supply in sheet.supplies),
        # Half of the kinds would be half of an answer.
        Recognising: all(part.create is None or bool(part.create.said("uid")) for part in parts),
    }
    bases = tuple(kind for kind, is_able in able.items() if is_able)
    made: type[Bridge] = type("Bridge", bases or (Bridge,), {})
    return made(client, sheet, account)
