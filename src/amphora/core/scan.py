"""One walk over a form: where its tokens stand, and whether the fast encoder can be trusted with it."""

from __future__ import annotations

from typing import Any

from amphora.core.canon import LARGEST_INTEGER
from amphora.core.pointers import write_pointer
from amphora.core.tokens import PREFIX, TokenPlace, tokens_in


class Scan:
    """The result of the walk. `places` are in document order; `is_plain` says that every number and member
    name is one that the fast encoder writes as RFC 8785 does."""

    __slots__ = ("is_plain", "places")

    def __init__(self, form: Any) -> None:
        self.places: list[TokenPlace] = []
        self.is_plain = isinstance(form, dict | list)
        self._walk(form, [])

    def _walk(self, value: Any, path: list[str]) -> None:
        kind = type(value)
        if kind is dict:
            for name, part in value.items():
                if name >= "\ud800":
                    self.is_plain = False
                self._part(name, part, path)
        elif kind is list:
            for position, part in enumerate(value):
                self._part(position, part, path)
        elif kind is str:
            self._text(value, path)

    def _part(self, name: str | int, part: Any, path: list[str]) -> None:
        kind = type(part)
        if kind is str:
            if PREFIX in part:
                self._text(part, [*path, str(name)])
        elif kind is dict or kind is list:
            path.append(str(name))
            self._walk(part, path)
            path.pop()
        elif kind is int:
            if not -LARGEST_INTEGER <= part <= LARGEST_INTEGER:
                self.is_plain = False
        elif kind is float and not (1e-5 <= abs(part) < 1e15 and part % 1):  # is_plain_float, inlined
            self.is_plain = False

    def _text(self, text: str, path: list[str]) -> None:
        pointer = write_pointer(tuple(path))
        self.places += [TokenPlace(pointer, token, in_text) for token, in_text in tokens_in(text)]


def token_places(form: Any) -> list[TokenPlace]:
    """Every place of a form at which a token stands, in document order."""
    return Scan(form).places
