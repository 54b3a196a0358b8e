"""Members of an item that are written by calls of their own: who may see it, its tags, its lines."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.values.canon import digest
from amphora.core.values.model import Json
from amphora.environments.bridge.bodies import Bodies
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.items import Single
from amphora.environments.bridge.paths import text_at
from amphora.environments.bridge.sheet import Apart, Call, ItemPart
from amphora.environments.contract import Write


def written(
    client: Client, part: ItemPart, bodies: Bodies, write: Write, there: Single, values: Mapping[str, Json]
) -> None:
    """Writes what differs from what is there; what a platform gives by itself when an item is made (its maker the
    right to it, say) is taken away again, if it isn't meant."""
    wanted = bodies.apart(part, write, there) if part.apart else {}
    for name, value in wanted.items():
        # Asked anew: writing the rest may have changed it.
        now = client.ask(part.more[name], values).body
        how = part.apart[name]
        if digest(now) == digest(value):
            continue
        if how.write:
            client.change(how.write, {**values, "value": value}, value)
        else:
            _by_entry(client, how, _entries(now, how), _entries(value, how), values)


def _entries(value: Json, how: Apart) -> dict[str, Json]:
    """The entries of a list by what tells one from another."""
    some = value if isinstance(value, list) else []
    return {(text_at(one, how.entry) if how.entry else digest(one)): one for one in some}


def _by_entry(
    client: Client, how: Apart, now: Mapping[str, Json], wanted: Mapping[str, Json], values: Mapping[str, Json]
) -> None:
    def change(call: Call | None, name: str, one: Json) -> None:
        if call:
            # A removal says nothing but which.
            client.change(call, {**values, "entry": name, "value": one}, one if call is how.add else None)

    # What is new first: a list that has to hold somebody who owns the item never is without.
    for name, one in wanted.items():
        if name not in now:
            change(how.add, name, one)
    for name, one in now.items():
        if name not in wanted:
            change(how.remove, name, one)
        elif digest(wanted[name]) != digest(one):
            change(how.remove, name, one)
            change(how.add, name, wanted[name])
