"""Values of a portable form for people who don't know tokens: titles for items, names with what they are there for
needs."""

from __future__ import annotations

import json
from collections.abc import Mapping

from amphora.core.form.bindings import MISSING
from amphora.core.needs.crosswalk import Mapped, row_name
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Json
from amphora.core.values.tokens import Token, parse_token, render_text, unescape

MOST_LETTERS = 400


class PlainValues:
    """Tells values. `titles` are those of items, `mapped` the needs of the import."""

    def __init__(self, titles: Mapping[Key, str], mapped: Mapping[Key, Mapped]) -> None:
        self._titles = titles
        self._mapped = mapped

    @classmethod
    def of(cls, docket: Docket) -> PlainValues:
        """For everything that stands in a docket."""
        titles = {one.key: one.present.states.title for one in docket.retirements}
        titles |= {action.key: action.states.title for action in docket.actions}
        return cls(titles, {one.need.key: one for one in docket.mapped})

    def told(self, value: Json) -> str:
        """A value in words, no longer than a person reads; empty where there is none."""
        if value is MISSING:
            return ""
        # Empty is not the same as not there.
        text = self._text(value) or '""' if isinstance(value, str) else self._json(value)
        return text if len(text) <= MOST_LETTERS else text[:MOST_LETTERS] + " …"

    def lines(self, text: str) -> str:
        """A text of several lines with its tokens told, none of it cut off."""
        return self._text(text)

    def _json(self, value: Json) -> str:
        return json.dumps(
            self._plain(value), ensure_ascii=False, indent=1 if isinstance(value, dict | list) else None
        )

    def _plain(self, value: Json) -> Json:
        if isinstance(value, dict):
            return {name: self._plain(part) for name, part in value.items()}
        if isinstance(value, list):
            return [self._plain(part) for part in value]
        return self._text(value) if isinstance(value, str) else value

    def _text(self, text: str) -> str:
        if token := parse_token(text):
            return self._token(token)
        return render_text(text, lambda one: f"‹{self._named(one)}›")

    def _named(self, text: str) -> str:
        token = parse_token(text)
        return self._token(token) if token else unescape(text)

    def _token(self, token: Token) -> str:
        if token.kind == "unbound":
            return f"an id that leads nowhere ({token.path})"
        if token.kind == "file":
            return f"an attachment ({token.path[:8]})"
        if token.kind == "secret":
            return "a secret, which is never shown"
        if token.is_need:
            name = row_name(token.key)
            mapped = self._mapped.get(token.key)
            there = mapped.value if mapped and mapped.native is not None else None
            if token.kind == "url":
                return f"the address {there or name}"
            return f"{token.kind} {name}" + (f" ({there} there)" if there is not None else "")
        title = self._titles.get(token.key) or readable(token.key)
        return f"{title}, {token.part}" if token.part is not None else title
