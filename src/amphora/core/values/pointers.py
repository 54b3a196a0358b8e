"""JSON Pointers (RFC 6901): places in a definition."""

from __future__ import annotations

from typing import Any

from amphora.core.values.digits import is_number

Pointer = tuple[str, ...]


def write_pointer(parts: Pointer) -> str:
    """The text of a pointer; `~` and `/` escaped as section 3 of the RFC says.

    >>> write_pointer(("steps", "a/b"))
    '/steps/a~1b'
    """
    if not parts:
        return ""
    plain = "/".join(parts)
    if "~" not in plain and plain.count("/") == len(parts) - 1:
        return "/" + plain
    return "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in parts)


def parse_pointer(text: str) -> Pointer:
    """The reference tokens of a pointer's text; ValueError where it is malformed."""
    if text == "":
        return ()
    if not text.startswith("/"):
        raise ValueError(f"a JSON Pointer starts with '/': {text!r}")
    # In this order (section 4): `~01` is `~1`, not `/`.
    return tuple(part.replace("~1", "/").replace("~0", "~") for part in text[1:].split("/"))


def value_at(document: Any, parts: Pointer) -> Any:
    """The value at a pointer; LookupError where there is none."""
    for part in parts:
        if type(document) is list:
            # Leading zeros and digits of other scripts are refused, as the RFC's grammar has it: two texts must not
            # mean one place.
            if (part[0:1] == "0" and part != "0") or not is_number(part):
                raise LookupError(f"{part!r} is no index of an array (RFC 6901, section 4)")
            document = document[int(part)]
        elif isinstance(document, dict):
            document = document[part]
        else:
            raise LookupError(f"{part!r} is below a value without members")
    return document


def holds(document: Any, parts: Pointer) -> bool:
    """Whether there is anything at a pointer, be it null."""
    try:
        value_at(document, parts)
    except LookupError:
        return False
    return True


def with_value(document: Any, parts: Pointer, value: Any) -> Any:
    """A copy of the document with `value` at the pointer; only the containers on the way are copied."""
    if not parts:
        return value
    head, rest = parts[0], parts[1:]
    if isinstance(document, list):
        return [with_value(old, rest, value) if str(n) == head else old for n, old in enumerate(document)]
    return type(document)({**document, head: with_value(document.get(head), rest, value)})


def without_value(document: Any, parts: Pointer) -> Any:
    """A copy of the document without the member at the pointer, or with null for an element of an array: what comes
    after it would move up. The same document where there is nothing."""
    head, rest = parts[0], parts[1:]
    if isinstance(document, list):
        return [
            (without_value(old, rest) if rest else None) if str(n) == head else old for n, old in enumerate(document)
        ]
    if not isinstance(document, dict) or head not in document:
        return document
    if not rest:
        return type(document)({name: value for name, value in document.items() if name != head})
    return type(document)({**document, head: without_value(document[head], rest)})
