"""Members of an item that are written by calls of their own: who may see it, its tags, its lines."""

from __future__ import annotations

from collections.abc import Mapping

from amphora.core.form.portable import of_data_url
from amphora.core.values.canon import loose_digest
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.environments.bridge.bodies import Bodies
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.forms import Attached
from amphora.environments.bridge.members import entry_values, shown
from amphora.environments.bridge.parts import Apart, Call, ItemPart
from amphora.environments.bridge.paths import text_at
from amphora.environments.bridge.single import Single
from amphora.environments.contract import Write


def written(
    client: Client,
    part: ItemPart,
    bodies: Bodies,
    write: Write,
    there: Single,
    values: Mapping[str, Json],
) -> None:
    """Writes what differs from what is there; what a platform gives by itself when an item is made (its maker the
    right to it, say) is taken away again, if it isn't meant."""
    wanted = bodies.apart(part, write, there) if part.apart else {}
    for name, value in wanted.items():
        # Asked anew: writing the rest may have changed it.
        now, how = shown(client, part, name, values), part.apart[name]
        if loose_digest(how.bare(now)) == loose_digest(value):
            continue
        if how.file:
            _file(client, how, name, value, write, values)
            continue
        if how.write and how.text:
            client.send(
                how.write, {**values, "title": write.states.title}, str(value).encode(), f"{how.text}; charset=utf-8"
            )
        elif how.write:
            client.change(how.write, {**values, "value": value}, value)
        else:
            _by_entry(client, how, _entries(now, how), _entries(value, how), values)


def _file(client: Client, how: Apart, name: str, value: Json, write: Write, values: Mapping[str, Json]) -> None:
    """Writes an attachment, or takes it away where there is none any more."""
    if not value:
        if how.remove:
            client.change(how.remove, values)
        return
    if how.write:
        media_type, content = _bytes_of(value, name, write.states.title)
        client.send(how.write, {**values, "title": write.states.title}, content, media_type)


def attached(part: ItemPart, call: Call, body: Mapping[str, Json], title: str) -> dict[str, Json]:
    """The body of a creation with the attachments that go along in it, under the names of their parts of a form."""
    result = dict(body)
    for name in call.said("along", []):
        how = part.apart[name]
        if how.file and (value := result.pop(name, None)):
            media_type, content = _bytes_of(value, name, title)
            result[(how.write.said("part") if how.write else "") or name] = Attached(content, media_type)
    return result


def _bytes_of(value: Json, name: str, title: str) -> tuple[str, bytes]:
    found = of_data_url(value) if isinstance(value, str) else None
    if found is None:
        raise EnvironmentRefused(f"{title!r} holds something else at {name} than an attachment.", subject=title)
    return found


def removed(client: Client, part: ItemPart, name: str, entry: Json, values: Mapping[str, Json]) -> None:
    """Removes one of them."""
    how = part.apart[name]
    _change(client, how.remove, how, {**values, "value": entry}, entry)


def _change(client: Client, call: Call | None, how: Apart, values: Mapping[str, Json], there: Json) -> None:
    """A call on an entry: as it is called there, for what tells it from the others may be something else."""
    if call:
        # A removal says nothing but which.
        body = None if call is how.remove else values["value"]
        client.change(call, {**values, **entry_values(there, how)}, body)


def _entries(value: Json, how: Apart) -> dict[tuple[str, int], Json]:
    """The entries of a list by what tells one from another, and which of those that are alike in that it is."""
    found: dict[tuple[str, int], Json] = {}
    counts: dict[str, int] = {}
    for one in value if isinstance(value, list) else []:
        # By content where nothing else tells them apart; without what the platform has written into them.
        name = (text_at(one, how.by) if how.by else "") or loose_digest(how.bare([one]))
        counts[name] = counts.get(name, 0) + 1
        found[name, counts[name]] = one
    return found


def _by_entry(
    client: Client,
    how: Apart,
    now: Mapping[tuple[str, int], Json],
    wanted: Mapping[tuple[str, int], Json],
    values: Mapping[str, Json],
) -> None:
    def change(call: Call | None, name: tuple[str, int], one: Json) -> None:
        _change(client, call, how, {**values, "value": one}, now.get(name, one))

    # What is new first: a list that has to hold somebody who owns the item never is without.
    for name, one in wanted.items():
        if name not in now:
            change(how.add, name, one)
    for name, one in now.items():
        if name not in wanted:
            change(how.remove, name, one)
        elif loose_digest(wanted[name]) == loose_digest(how.bare([one])[0]):
            continue
        elif how.change:
            change(how.change, name, wanted[name])
        else:
            change(how.remove, name, one)
            change(how.add, name, wanted[name])
