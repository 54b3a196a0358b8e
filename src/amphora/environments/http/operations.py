"""The operations of the environment protocol over any environment: what each is asked, and what it answers."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import field
from itertools import chain, islice
from typing import Any
from urllib.parse import unquote

from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.raw import PIECE_BYTES
from amphora.core.values.strict_json import compact_bytes, parse_json
from amphora.environments.contract import Environment, Seen, Take
from amphora.environments.http import wire

LINES = "application/x-ndjson"
BYTES = "application/octet-stream"

PAGE = 500
"""So many rows of an index are answered at once."""


@dataclass(frozen=True)
class Answer:
    """One answer: a JSON value, or pieces that are made while they are sent, `LINES` where nothing else is said."""

    status: int = 200
    body: Json = None
    headers: Mapping[str, str] = field(default_factory=dict)
    pieces: Iterable[bytes] | None = None


@dataclass(frozen=True)
class Request:
    """One request, taken apart."""

    environment: Environment
    base: str
    ids: tuple[str, ...]
    query: Mapping[str, str]
    headers: Mapping[str, str]
    body: Any
    pieces: Iterator[bytes]

    @property
    def revision(self) -> str:
        """The revision that the caller saw; a problem where none is named: nothing is changed blindly."""
        # Strong tags only (RFC 9110, section 8.8.3): a weak one may be equal for two definitions.
        found = re.fullmatch(r'"([^"]*)"', self.headers.get("If-Match", ""))
        if found is None:
            raise Problem(428, "precondition", "a change needs If-Match with the revision that was seen")
        return found[1]

    def texts(self, name: str) -> list[str]:
        """A list of texts in the body; ValueError where something else stands."""
        found = self.body[name]
        if not isinstance(found, list) or not all(isinstance(one, str) for one in found):
            raise ValueError(f"{name} has to be a list of texts")
        return found

    @property
    def seen(self) -> Seen:
        return Seen(self.ids[0], self.revision)


@dataclass(frozen=True)
class Coming:
    """Content on its way in: it goes through once, and how much it is shows at the end."""

    pieces: Iterator[bytes]
    size_bytes: int = 0

    def chunks(self) -> Iterator[bytes]:
        """The pieces, brought to the size in which they are kept."""
        held = bytearray()
        for piece in self.pieces:
            held += piece
            if len(held) >= PIECE_BYTES:
                yield bytes(held)
                held.clear()
        if held:
            yield bytes(held)


class Problem(Exception):
    """An answer that is no good one (RFC 9457)."""

    def __init__(self, status: int, code: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.code, self.detail = status, code, detail


def _describe(r: Request) -> Answer:
    return Answer(body=wire.description_json(r.environment.describe(), wire.abilities_of(r.environment)))


def _whoami(r: Request) -> Answer:
    return Answer(body=wire.identity_json(r.environment.whoami()))


def _index(r: Request) -> Answer:
    # From an id on and not from a number: items that come and go meanwhile shift no page.
    after, limit = r.query.get("after", ""), max(1, min(int(r.query.get("limit", PAGE)), PAGE))
    rows = [row for row in r.environment.index() if row.native_id > after]
    page = rows[:limit]
    more = {"Link": f'<{r.base}/items?after={page[-1].native_id}&limit={limit}>; rel="next"'} if page != rows else {}
    return Answer(body={"items": [wire.listed_json(row) for row in page]}, headers=more)


def _read(r: Request) -> Answer:
    # Anything else is the live version: a misspelt word must not show somebody's draft.
    take: Take = "draft" if r.body.get("take") == "draft" else "live"
    return Answer(body={"items": [wire.found_json(one) for one in r.environment.read(r.texts("ids"), take)]})


def _look(r: Request) -> Answer:
    return Answer(body={"items": [image.to_json() for image in r.environment.look(r.texts("ids")).values()]})


def _one(r: Request) -> Answer:
    [found] = r.environment.read([r.ids[0]])
    # Strong: the same revision is the same definition, byte for byte.
    etag = f'"{found.listed.revision}"'
    # Cheap for whoever looks often: the definition is not sent once more.
    if r.headers.get("If-None-Match") == etag:
        return Answer(304, headers={"ETag": etag})
    return Answer(body=wire.found_json(found), headers={"ETag": etag})


def _supplies(r: Request) -> Answer:
    return Answer(body={"items": [wire.supply_json(one) for one in r.environment.supplies()]})


def _probe(r: Request) -> Answer:
    return Answer(body=wire.probe_json(r.environment.probe(r.ids[0], r.texts("objects"))))  # type: ignore[attr-defined]


def _create(r: Request) -> Answer:
    key = r.headers.get("Idempotency-Key", "")
    # The revision is None by the path and not by the body: a creation can't be talked into an update.
    [written] = r.environment.write([wire.write_of(r.body, key, r.body.get("id"), None)])
    headers = {"Location": f"{r.base}/items/{written.native_id}", "ETag": f'"{written.revision}"'}
    return Answer(201, wire.written_json(written), headers)


def _update(r: Request) -> Answer:
    key = r.headers.get("Idempotency-Key", "")
    [written] = r.environment.write([wire.write_of(r.body, key, r.ids[0], r.revision)])
    return Answer(body=wire.written_json(written), headers={"ETag": f'"{written.revision}"'})


def _publish(r: Request) -> Answer:
    r.environment.publish(r.seen)  # type: ignore[attr-defined]
    return Answer(204)


def _take_back(r: Request) -> Answer:
    r.environment.take_back(r.seen)  # type: ignore[attr-defined]
    return Answer(204)


def _switch(r: Request) -> Answer:
    r.environment.switch(r.seen, bool(r.body["on"]))  # type: ignore[attr-defined]
    return Answer(204)


def _retire(r: Request) -> Answer:
    r.environment.retire([wire.seen_of(row) for row in r.body["items"]])
    return Answer(204)


def _rows(r: Request) -> Answer:
    rows = iter(r.environment.records(r.ids[0]))  # type: ignore[attr-defined]
    # The first one before anything is sent: afterwards no refusal could be told.
    first = list(islice(rows, 1))
    # The others are made while they are sent: nothing of a table is kept here.
    return Answer(pieces=(compact_bytes(row) + b"\n" for row in chain(first, rows)))


def _load(r: Request) -> Answer:
    rows = map(parse_json, wire.lines_of(r.pieces))
    return Answer(body={"rows": r.environment.load(r.ids[0], rows)})  # type: ignore[attr-defined]


def _held_files(r: Request) -> Answer:
    return Answer(body={"files": r.environment.held_files(r.texts("names"))})  # type: ignore[attr-defined]


def _file(r: Request) -> Answer:
    pieces = iter(r.environment.file(r.ids[0]))  # type: ignore[attr-defined]
    # As of rows: the first piece before anything is sent, so that a refusal can still be told.
    first = list(islice(pieces, 1))
    return Answer(pieces=chain(first, pieces), headers={"Content-Type": BYTES})


def _keep_file(r: Request) -> Answer:
    r.environment.keep_file(r.ids[0], Coming(r.pieces))  # type: ignore[attr-defined]
    return Answer(204)


def _token(r: Request) -> Answer:
    written = r.environment.answered(r.ids[0])  # type: ignore[attr-defined]
    # Null and no 404: that a token made nothing is an answer, and no mistake of whoever asks.
    return Answer(body=wire.written_json(written) if written else None)


def _makers(r: Request) -> Answer:
    return Answer(body=r.environment.makers(r.texts("ids")))  # type: ignore[attr-defined]


def _along(r: Request) -> Answer:
    return Answer(body=r.environment.along(r.texts("ids")))  # type: ignore[attr-defined]


ROUTES: tuple[tuple[str, str, Callable[[Request], Answer]], ...] = (
    ("GET", "", _describe),
    ("GET", "/whoami", _whoami),
    ("GET", "/items", _index),
    ("POST", "/items", _create),
    ("POST", "/items/read", _read),
    ("POST", "/items/look", _look),
    ("POST", "/items/makers", _makers),
    ("POST", "/items/along", _along),
    ("GET", "/items/{id}", _one),
    ("PUT", "/items/{id}", _update),
    ("POST", "/items/{id}/publish", _publish),
    ("POST", "/items/{id}/take-back", _take_back),
    ("POST", "/items/{id}/switch", _switch),
    ("GET", "/items/{id}/rows", _rows),
    ("PUT", "/items/{id}/rows", _load),
    ("POST", "/files/look", _held_files),
    ("GET", "/files/{id}", _file),
    ("PUT", "/files/{id}", _keep_file),
    ("GET", "/supplies", _supplies),
    ("POST", "/supplies/{id}/probe", _probe),
    ("GET", "/tokens/{id}", _token),
    ("POST", "/retire", _retire),
)
"""Every operation of the protocol: method, path below the environment's, what it does."""

_PATTERNS = [(method, re.compile(path.replace("{id}", "([^/]+)")), do) for method, path, do in ROUTES]
_QUESTIONS = (_read, _look, _makers, _along, _probe, _held_files)


@dataclass(frozen=True)
class Operation:
    """An operation that was asked for, with the ids in its path."""

    do: Callable[[Request], Answer]
    ids: tuple[str, ...]

    @property
    def is_streamed(self) -> bool:
        """Whether its body is read while it comes."""
        return self.do in (_load, _keep_file)

    def is_write(self, method: str) -> bool:
        """Whether it changes anything."""
        # Questions with long lists of ids come by POST, and may be repeated like any other.
        return method != "GET" and self.do not in _QUESTIONS

    def may_wait(self, method: str) -> bool:
        """Whether it can be answered later: what is streamed is read while it comes."""
        return self.is_write(method) and not self.is_streamed


def operation_of(method: str, path: str) -> Operation:
    """The operation that a path below an environment's means; a problem where there is none."""
    for one, pattern, do in _PATTERNS:
        # The whole path: a prefix would take `/items/a/b` for the item `a`.
        if one == method and (found := pattern.fullmatch(path)):
            return Operation(do, tuple(map(unquote, found.groups())))
    raise Problem(404, "not-found", "there is no such operation")
