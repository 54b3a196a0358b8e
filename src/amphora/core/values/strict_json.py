"""JSON as RFC 8259 means it, read strictly: no duplicate names, no NaN, no half characters."""

from __future__ import annotations

import json
from typing import Any

import orjson

MOST_LEVELS = 200
"""A document nested deeper than this is refused."""


class JsonFault(ValueError):
    """The text is not the JSON that we read; the message says why."""


def parse_json(raw: bytes | str) -> Any:
    """The value of a JSON text; JsonFault for everything that is not strict JSON.

    Text in our own layout is parsed fast: what comes out the same to the byte held no duplicate, no NaN
    and no number that would have lost digits.
    """
    return parse_laid_out(raw)[0]


def parse_laid_out(raw: bytes | str) -> tuple[Any, bytes | None]:
    """The value likewise, and the bytes if they stand in our own layout."""
    if isinstance(raw, bytes) and raw.startswith((b"{\n", b"[\n")):
        try:
            quick = orjson.loads(raw)
            # Written again and compared: cheaper than the standard library's parser by a factor of ten, and just as
            # strict.
            if pretty_bytes(quick) == raw:
                return quick, raw
        except (orjson.JSONDecodeError, orjson.JSONEncodeError):
            pass
    return _parse_slowly(raw), None


def _parse_slowly(raw: bytes | str) -> Any:
    try:
        # Some write a mark before it (RFC 8259, section 8.1).
        text = raw.decode("utf-8-sig") if isinstance(raw, bytes) else raw
        value = json.loads(text, object_pairs_hook=_unique, parse_constant=_no_constant)
    except UnicodeDecodeError as error:
        raise JsonFault(f"not UTF-8: byte {error.start}") from error
    except RecursionError as error:
        # Not a fault of ours but of the text: ten thousand brackets are two kilobytes in a package.
        raise JsonFault(f"nested deeper than {MOST_LEVELS} levels") from error
    except json.JSONDecodeError as error:
        raise JsonFault(f"line {error.lineno}, column {error.colno}: {error.msg}") from error
    except ValueError as error:
        raise JsonFault(str(error)) from error
    _bound_depth(value)
    return value


def pretty_bytes(value: Any) -> bytes:
    """The fixed, indented, sorted layout in which JSON stands in packages: one member a line."""
    try:
        return orjson.dumps(value, option=orjson.OPT_INDENT_2 | orjson.OPT_SORT_KEYS | orjson.OPT_APPEND_NEWLINE)
    except TypeError:
        # Integers beyond 64 bits and text that is not Unicode: no package holds them, and what is kept of a target
        # may.
        return json.dumps(value, indent=2, sort_keys=True).encode() + b"\n"


def compact_bytes(value: Any) -> bytes:
    """A value on one line without white space, with its members sorted."""
    try:
        return orjson.dumps(value, option=orjson.OPT_SORT_KEYS)
    except TypeError:
        # As above: rows and what the ledger keeps are somebody's data, and hold what they hold.
        return json.dumps(value, sort_keys=True, separators=(",", ":")).encode()


def _unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    members = dict(pairs)
    # RFC 8259, section 4, leaves doubled names to whoever reads; two readers that choose differently would see two
    # packages in one.
    if len(members) != len(pairs):
        seen: set[str] = set()
        doubled = next(name for name, _ in pairs if name in seen or seen.add(name))  # type: ignore[func-returns-value]
        raise JsonFault(f"the name {doubled!r} stands twice in one object")
    return members


def _no_constant(name: str) -> Any:
    raise JsonFault(f"{name} is not JSON")


def _bound_depth(value: Any) -> None:
    # Level by level, of what holds something: most of a document are texts and numbers.
    level, depth = [value] if isinstance(value, dict | list) else [], 0
    while level:
        if depth > MOST_LEVELS:
            raise JsonFault(f"nested deeper than {MOST_LEVELS} levels")
        parts = (part for held in level for part in (held.values() if isinstance(held, dict) else held))
        level, depth = [part for part in parts if isinstance(part, dict | list)], depth + 1
