"""Adapter to whatever serves the environment protocol: `https://HOST[/PATH]`, and `http://` on loopback."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from amphora.core.plan.states import Image
from amphora.core.values.errors import EnvironmentRefused, SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Found, Json, Listed, Supply
from amphora.core.values.raw import Raw, chunks_of, size_of
from amphora.core.values.strict_json import JsonFault, compact_bytes, parse_json
from amphora.environments.calls import checked_address
from amphora.environments.contract import Description, Identity, Probe, Seen, Take, Write, Written
from amphora.environments.http.client import Client
from amphora.environments.http.wire import (
    description_of,
    found_of,
    identity_of,
    image_of,
    lines_of,
    listed_of,
    probe_of,
    supply_of,
    write_json,
    written_of,
)

PORTION = 200
"""So many items are asked for in one call."""

Value = TypeVar("Value")


def connect(location: str, folder: Path, user: str, secret: str, ca_file: str = "") -> HttpEnvironment:
    """Opens a location. UsageFault for plain HTTP to another machine: definitions, and the token, would be read
    along."""
    checked_address(location, "the environment protocol")
    # Asked at once: which methods there are depends on what the server says that it can do.
    client = Client(location, user, secret, ca_file)
    try:
        table = client.get("")
        description = _read(client, lambda: description_of(table))
        return _able(client, description, _read(client, lambda: list(map(str, table.get("abilities", ())))))
    # Also an interrupt: a line that stays open keeps the program from ending.
    except BaseException:
        client.close()
        raise


class HttpEnvironment:
    """What every server has to serve. What only some can do stands in classes of their own, below."""

    def __init__(self, client: Client, description: Description) -> None:
        self.client = client
        self._description = description

    def describe(self) -> Description:
        return self._description

    def whoami(self) -> Identity:
        table = self.client.get("/whoami")
        return _read(self.client, lambda: identity_of(table))

    def index(self) -> list[Listed]:
        rows = [row for page in self.client.pages("/items") for row in _rows(self.client, page)]
        # Sorted here: which of two equal names gets a number must not depend on how a server pages.
        return sorted(_read(self.client, lambda: [listed_of(row) for row in rows]), key=lambda row: row.native_id)

    def read(self, native_ids: Sequence[str], take: Take = "live") -> list[Found]:
        rows = self._asked("/items/read", native_ids, {"take": take})
        found = {one.listed.native_id: one for one in _read(self.client, lambda: [found_of(row) for row in rows])}
        # Told by the first one: that something is gone is the news, and a list of hundreds would bury it.
        if missing := [id_ for id_ in native_ids if id_ not in found]:
            raise EnvironmentRefused(f"{self.client.base_url} has no item {missing[0]!r}.", subject=missing[0])
        return [found[id_] for id_ in native_ids]

    def look(self, native_ids: Sequence[str]) -> dict[str, Image]:
        rows = self._asked("/items/look", native_ids, {})
        images = _read(self.client, lambda: [image_of(row) for row in rows])
        return {image.native_id: image for image in images}

    def supplies(self) -> list[Supply]:
        page = self.client.get("/supplies")
        rows = _rows(self.client, page)
        return _read(self.client, lambda: [supply_of(row) for row in rows])

    def write(self, writes: Sequence[Write]) -> list[Written]:
        return [self._write(write) for write in writes]

    def retire(self, items: Sequence[Seen]) -> None:
        # All in one call: the server alone can remove a set, or nothing of it.
        table = {"items": [{"id": item.native_id, "revision": item.revision} for item in items]}
        self.client.sent("POST", "/retire", table)

    def at_once(self) -> int:
        return self.client.pace.now

    def close(self) -> None:
        self.client.close()

    def _write(self, write: Write) -> Written:
        # RFC 9110, section 13: the precondition is the guard, the key only makes a repetition harmless.
        headers = {"Idempotency-Key": write.token} if write.token else {}
        # An item that is there already must not be written over by a creation that is sent twice.
        if write.is_new:
            method, path, headers = "POST", "/items", {**headers, "If-None-Match": "*"}
        else:
            method, path = "PUT", _item(str(write.native_id))
            headers = {**headers, "If-Match": f'"{write.revision}"'}
        table = self.client.changed(method, path, body=write_json(write), headers=headers)
        return _known(self.client, lambda: written_of(table))

    def _asked(self, path: str, native_ids: Sequence[str], more: dict[str, Json]) -> list[Any]:
        found: list[Any] = []
        # In a body and in portions: ids in an address are cut off by some server at some length.
        for start in range(0, len(native_ids), PORTION):
            answer = self.client.ask(path, {"ids": list(native_ids[start : start + PORTION]), **more})
            found += _rows(self.client, answer)
        return found

    def _changed(self, item: Seen, what: str, body: Json = None) -> None:
        self.client.sent("POST", f"{_item(item.native_id)}/{what}", body, {"If-Match": f'"{item.revision}"'})


class Publishing(HttpEnvironment):
    """Drafts beside live versions."""

    def publish(self, item: Seen) -> None:
        self._changed(item, "publish")

    def take_back(self, item: Seen) -> None:
        self._changed(item, "take-back")


class Switching(HttpEnvironment):
    """Items that are on or off."""

    def switch(self, item: Seen, is_on: bool) -> None:
        self._changed(item, "switch", {"on": is_on})


class HoldingRows(HttpEnvironment):
    """Tables with rows, as JSON Lines."""

    def records(self, native_id: str) -> Iterator[Json]:
        # One row in memory: a table may be larger than the machine.
        with self.client.streamed(f"{_item(native_id)}/rows") as pieces:
            for line in lines_of(pieces):
                try:
                    yield parse_json(line)
                except JsonFault as error:
                    raise EnvironmentRefused(f"{self.client.base_url} gives rows that can't be read.") from error

    def load(self, native_id: str, rows: Iterator[Json], comes_back: bool = False) -> int:
        # Never read before they are sent: the source gives rows as fast as the target takes them.
        lines = (compact_bytes(row) + b"\n" for row in rows)
        path = f"{_item(native_id)}/rows"
        headers = {"If-None-Match": "*", "Content-Type": "application/x-ndjson"}
        table = self.client.changed("PUT", path, headers=headers, content=lines)
        return _known(self.client, lambda: int(table["rows"]))


class KeepingFiles(HttpEnvironment):
    """Attachments beside definitions, streamed."""

    def held_files(self, names: Sequence[str]) -> dict[str, int]:
        table = self.client.ask("/files/look", {"names": list(names)})
        return _read(self.client, lambda: {str(name): int(size) for name, size in table["files"].items()})

    def file(self, name: str) -> Iterator[bytes]:
        total = hashlib.sha256()
        with self.client.streamed(_file(name)) as pieces:
            for piece in pieces:
                total.update(piece)
                yield piece
        # At the end and not before: whoever writes it somewhere else must not call it whole.
        if total.hexdigest() != name:
            raise EnvironmentRefused(f"{self.client.base_url} gives something else for attachment {name[:8]}.")

    def keep_file(self, name: str, content: Raw) -> None:
        # A question as to being repeated: what is sent twice is there once, and seen when an item names it.
        length = {"Content-Length": str(size_of(content)), "Content-Type": "application/octet-stream"}
        self.client.sent("PUT", _file(name), headers=length, is_question=True, content=_Again(content))


@dataclass(frozen=True)
class _Again:
    """Content that can be sent again from its beginning."""

    content: Raw

    def __iter__(self) -> Iterator[bytes]:
        return chunks_of(self.content)


class Probing(HttpEnvironment):
    """A look through connections."""

    def probe(self, connection: str, objects: Sequence[str]) -> Probe:
        table = self.client.ask(f"/supplies/{quote(connection, safe='')}/probe", {"objects": list(objects)})
        return _read(self.client, lambda: probe_of(table))


class RememberingTokens(HttpEnvironment):
    """Creations that can be asked after."""

    def answered(self, token: str) -> Written | None:
        table = self.client.get(f"/tokens/{quote(token, safe='')}")
        return _read(self.client, lambda: written_of(table) if table else None)


class TellingMakers(HttpEnvironment):
    """Items that remember the creation that made them."""

    def makers(self, native_ids: Sequence[str]) -> dict[str, str]:
        table = self.client.ask("/items/makers", {"ids": list(native_ids)})
        return {str(id_): str(token) for id_, token in table.items()}


class TakingAlong(HttpEnvironment):
    """Removals that take others along."""

    def along(self, native_ids: Sequence[str]) -> dict[str, str]:
        table = self.client.ask("/items/along", {"ids": list(native_ids)})
        return _read(self.client, lambda: {str(id_): str(taker) for id_, taker in table.items()})


_CLASSES: dict[str, type[HttpEnvironment]] = {
    "publish": Publishing,
    "switch": Switching,
    "rows": HoldingRows,
    "files": KeepingFiles,
    "probe": Probing,
    "tokens": RememberingTokens,
    "makers": TellingMakers,
    "along": TakingAlong,
}


def _able(client: Client, description: Description, abilities: Iterable[str]) -> HttpEnvironment:
    """An environment that has just the methods that its server serves: others ask by looking for them."""
    bases = tuple(_CLASSES[name] for name in dict.fromkeys(abilities) if name in _CLASSES)
    # A class for each combination: an ability is asked for by its methods, so that one without it must lack them.
    made: type[HttpEnvironment] = type("HttpEnvironment", bases or (HttpEnvironment,), {})
    return made(client, description)


def _item(native_id: str) -> str:
    return f"/items/{quote(native_id, safe='')}"


def _rows(client: Client, page: Any) -> list[Any]:
    rows = page.get("items") if isinstance(page, dict) else None
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise client.unlike()
    return rows


def _file(name: str) -> str:
    return f"/files/{quote(name, safe='')}"


def _read(client: Client, parse: Callable[[], Value]) -> Value:
    """A value out of an answer; what does not fit is the server's fault, and said so."""
    try:
        return parse()
    except (KeyError, TypeError, ValueError, AttributeError, SheetFault) as error:
        raise client.unlike(error) from error


def _known(client: Client, parse: Callable[[], Value]) -> Value:
    """The same out of the answer to a write: what does not fit leaves open whether it took effect."""
    try:
        return parse()
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise client.lost(False, "answered a write with something that can't be read") from error
