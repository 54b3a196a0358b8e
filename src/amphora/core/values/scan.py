"""One walk over a form: where its tokens stand."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from amphora.core.values.pointers import Pointer, parse_pointer, value_at, write_pointer
from amphora.core.values.tokens import PREFIX, TokenPlace, tokens_in

_PREFIX = PREFIX.encode()


def token_places(form: Any) -> list[TokenPlace]:
    """Every place of a form at which a token stands, in document order."""
    found: list[TokenPlace] = []
    if type(form) is str:
        _add(form, (), found)
    else:
        _walk(form, [], found)
    return found


def confirmed_places(form: Any, text: bytes, pointers: Iterable[str]) -> list[TokenPlace] | None:
    """The same without a walk, where somebody lists the places: None if the list could lack one. `text` is
    the form in our own layout, in which every token, and whatever looks like one, stands as it is."""
    found: list[TokenPlace] = []
    count = 0
    for pointer in pointers:
        try:
            value = value_at(form, _parts(pointer))
        except (LookupError, ValueError, TypeError):
            return None
        # Exact types, here and below: this runs over every value of a hundred thousand items.
        if type(value) is not str:
            return None
        count += value.count(PREFIX)
        found += [TokenPlace(pointer, token, in_text) for token, in_text in tokens_in(value)]
    # Counted in the bytes: if there were a token at a place that nobody listed, or in a member's name, it would be
    # one more here.
    return found if text.count(_PREFIX) == count else None


@lru_cache(4096)
def _parts(pointer: str) -> Pointer:
    return parse_pointer(pointer)


def _walk(value: Any, path: list[str], found: list[TokenPlace]) -> None:
    for name, part in value.items() if type(value) is dict else enumerate(value) if type(value) is list else ():
        kind = type(part)
        if kind is str:
            if PREFIX in part:
                _add(part, (*path, str(name)), found)
        elif kind is dict or kind is list:
            path.append(str(name))
            _walk(part, path, found)
            path.pop()


def _add(text: str, at: tuple[str, ...], found: list[TokenPlace]) -> None:
    pointer = write_pointer(at)
    found += [TokenPlace(pointer, token, in_text) for token, in_text in tokens_in(text)]
