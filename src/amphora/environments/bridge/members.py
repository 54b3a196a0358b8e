"""Members of an item that are read by calls of their own."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.form.portable import data_url
from amphora.core.values.model import Json
from amphora.environments.bridge.answer import Absent
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.lines import ANY_TYPE
from amphora.environments.bridge.parts import Apart, ItemPart
from amphora.environments.bridge.paths import MEMBERS_OF, text_at


def shown(client: Client, part: ItemPart, name: str, values: Mapping[str, Json]) -> Json:
    """What a further call answers as a member, None where an item has none of it."""
    call, how = part.more[name], part.apart[name]
    try:
        if how.text:
            return client.text(call, values)
        if how.file:
            content, told = client.content(call, values)
            return data_url(content, told if how.file == ANY_TYPE else how.file)
        # By pages where the sheet says that it is a list: of a single answer the rest would be missed silently.
        found = client.rows(call, values) if call.said("rows") else client.ask(call, values).body
        if not how.each or not isinstance(found, list):
            return found
        entries = [{**values, **entry_values(one, how)} for one in found]
        return [client.ask(how.each, one).body for one in entries]
    except Absent:
        return None


def entries_of(client: Client, part: ItemPart, name: str, values: Mapping[str, Json]) -> list[Json]:
    """The entries of a member, as the platform shows them."""
    found = shown(client, part, name, values)
    return found if isinstance(found, list) else []


def entry_values(there: Json, how: Apart) -> dict[str, Json]:
    """What stands for an entry in calls, and for its members."""
    return {"entry": text_at(there, how.entry or "$"), MEMBERS_OF["entry"]: there}
