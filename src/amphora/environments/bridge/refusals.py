"""What a platform refuses with: its own words, and what they mean."""

from __future__ import annotations

from collections.abc import Iterator

from amphora.core.values.errors import AmphoraError, RevisionMoved
from amphora.core.values.model import Json
from amphora.environments.bridge.answer import Absent
from amphora.environments.bridge.parts import BridgeSheet, Call
from amphora.environments.bridge.paths import text_at, value_at


def said_at(body: Json, path: str) -> str:
    """What stands where a platform says what is wrong, as a sentence; empty where nothing does."""
    found = value_at(body, path) if path else None
    # Of objects that say something under a name for it only that: beside it may stand what was sent.
    return (words_in(found) if isinstance(found, dict | list) else "") or _told(found)


def _told(value: Json) -> str:
    """By member, where it is an object: many platforms name the members that are at fault."""
    if isinstance(value, dict):
        return "; ".join(f"{name}: {_told(part)}" for name, part in value.items())
    return ", ".join(map(_told, value)) if isinstance(value, list) else "" if value is None else str(value)


_SAYING = ("detail", "message", "error_description", "error", "errors", "title", "msg", "reason", "description")
_WITHIN = ("detail", "message", "error", "msg", "reason")
_WHERE = ("loc", "field", "pointer", "path", "property")
MOST_FAULTS = 3
MOST_WORDS = 200


def words_in(body: Json, depth: int = 4) -> str:
    """The platform's own words, where the sheet doesn't say where these stand: texts under names that promise some,
    with the place that is at fault, or lists of texts under the names of members. Nothing else of an answer: some
    repeat what was sent, secrets and all."""
    if depth == 0:
        return ""
    if isinstance(body, list):
        found = [text for one in body if (text := one if isinstance(one, str) else words_in(one, depth - 1))]
        more = f" and {len(found) - MOST_FAULTS} more" if len(found) > MOST_FAULTS else ""
        return f"{'; '.join(found[:MOST_FAULTS])}{more}"
    if not isinstance(body, dict):
        return ""
    # Known names first; what merely sounds like one after them, and details before what sums them up.
    near = sorted((name for name in body if any(word in name.lower() for word in _WITHIN)), key=_summing)
    for name in (*(name for name in _SAYING if name in body), *near):
        value = body[name]
        if text := value if isinstance(value, str) else words_in(value, depth - 1):
            where = next((_place(body[one]) for one in _WHERE if one in body), "")
            return f"{text[:MOST_WORDS].rstrip('.')} (at {where})" if where else text[:MOST_WORDS]
    by_member = [f"{place}: {text}" for place, text in _by_member(body)] if _is_by_member(body) else []
    return words_in(by_member)[: MOST_WORDS * MOST_FAULTS]


def _is_by_member(body: Json) -> bool:
    """Whether an answer holds nothing but lists of texts, as where each member that is at fault has its own: what was
    sent has other members, too."""
    if isinstance(body, dict):
        return all(isinstance(value, dict | list) and _is_by_member(value) for value in body.values())
    return isinstance(body, list) and all(isinstance(one, str) or (one == {} or _is_by_member(one)) for one in body)


def _by_member(body: Json, place: str = "") -> Iterator[tuple[str, str]]:
    if isinstance(body, str):
        yield place, body[:MOST_WORDS].rstrip(".")
    for name, value in body.items() if isinstance(body, dict) else ():
        yield from _by_member(value, f"{place}.{name}" if place else name)
    for one in body if isinstance(body, list) else ():
        yield from _by_member(one, place)


def _summing(name: str) -> bool:
    return "detail" not in name.lower()


def _place(where: Json) -> str:
    return ".".join(map(str, where)) if isinstance(where, list) else str(where)


KINDS: dict[str, type[AmphoraError]] = {"moved": RevisionMoved, "absent": Absent, "unpublished": Absent}
"""The errors that some meanings are; any other is a refusal like every other."""

_STATUSES = {403: "forbidden", 404: "absent", 410: "absent", 409: "taken", 412: "moved", 429: "later"}


def meaning(sheet: BridgeSheet, call: Call, status: int, body: Json, text: str) -> str | None:
    """What a refusal means: as the sheet says, else as the status does; None where neither says anything."""
    code = text_at(body, sheet.code)
    for one in sheet.means:
        if one.is_of(call.name) and one.fits(status, code, text):
            return one.means
    return _STATUSES.get(status)


def bare(address: str) -> str:
    """An address without what may be somebody's secret in it."""
    return address.partition("?")[0].partition("#")[0]
