"""Bindings: what one environment calls the things that tokens stand for, in both directions."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import field
from typing import Final

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.raw import Raw
from amphora.core.values.tokens import Token, parse_token, token_for


class _Missing:
    def __repr__(self) -> str:
        return "MISSING"


MISSING: Final = _Missing()
"""No value: other than null, which is one."""


_NO_WORD: Final = re.compile(r"(?=.*[^\W\d_])(?:.*[@:/~].*|(?=.*\d).{4,})", re.DOTALL)
"""A letter, and a sign that stands in no word, or a digit beside it in more than a few characters."""


@dataclass(frozen=True, slots=True)
class IdStyle:
    """How an environment's ids look.

    `pattern` matches an id inside a text. `joiner` stands between an item's id and a part's where a
    part is named by both (`T1#price`); empty where a part's id stands alone, unique in the environment. `mark` is a
    letter that every id holds, if there is one: a text without it needs no search. `has_words` says that people may
    have chosen them: one that looks like a word or a number is an id only where a kind sheet says so.
    """

    pattern: str
    joiner: str = ""
    mark: str = ""
    has_words: bool = False

    def tells(self, text: str) -> bool:
        """Whether a text by itself, at a place of which nobody has said anything, is enough to be taken for the id
        that it equals. `mill` may be a tag as well; `3f2a-77c1` and `oils/early` are not written by chance."""
        return not self.has_words or bool(_NO_WORD.fullmatch(text))


@dataclass
class Bindings:
    """Tokens and native values of one environment.

    `values` maps `KIND:PATH` (of an item or a need) to the native id or value. `inner` maps, per item,
    the portable id of a part to the native one, where the environment forced another. `part_owner`
    maps native part ids to the item that holds them. `held` remembers at which place a name for a
    setting or secret was given, so that two places never share one. `files_apart` gives an attachment by its SHA-256
    where the environment keeps attachments beside definitions; None where they stand in them.
    """

    style: IdStyle
    values: dict[Key, Json] = field(default_factory=dict)
    inner: dict[Key, Mapping[str, str]] = field(default_factory=dict)
    part_owner: dict[str, Key] = field(default_factory=dict)
    held: dict[Key, str] = field(default_factory=dict)
    files_apart: Callable[[str], Raw] | None = field(default=None, repr=False)
    _reverse: dict[str, Key] = field(default_factory=dict, init=False, repr=False)
    _urls: dict[str, str] | None = field(default=None, init=False, repr=False)
    _text: re.Pattern[str] | None = field(default=None, init=False, repr=False)

    def __post_init__(self) -> None:
        for key, value in list(self.values.items()):
            self.bind(key, value)

    def bind(self, key: Key, value: Json) -> None:
        """Adds one binding. Where two needs share a value, the first is the one that reading gives."""
        self.values[key] = value
        if key.startswith("url:"):
            self._urls = None
            self._text = None
        # Settings and secrets never by value: a setting "5" would turn every 5 of every definition into itself.
        if isinstance(value, str) and not key.startswith(("setting:", "secret:")):
            self._reverse.setdefault(value, key)

    def value_of(self, text: str) -> Json:
        """The native value of a token's text, or MISSING."""
        token = parse_token(text)
        return MISSING if token is None else self.value_of_token(token)

    def value_of_token(self, token: Token) -> Json:
        """The native value of a token, or MISSING."""
        value = self.values.get(token.key, MISSING)
        if token.part is None or value is MISSING:
            return value
        # The part's own id unless this environment forced another one on it.
        part = self.inner.get(token.key, {}).get(token.part, token.part)
        return f"{value}{self.style.joiner}{part}" if self.style.joiner else part

    def owner_of(self, native: str) -> Key | None:
        """The key of what a native id belongs to, of a part that of its item: cheaper than its token."""
        key = self._reverse.get(native)
        if key is None and self.style.joiner:
            owner, joiner, part = native.partition(self.style.joiner)
            return self._reverse.get(owner) if joiner and part else None
        return self.part_owner.get(native) if key is None else key

    def token_of(self, native: str) -> str | None:
        """The token of a native id (of an item, a part, a connection, a person) or None."""
        key = self._reverse.get(native)
        if key is not None:
            return token_for(key)
        if self.style.joiner:
            # At the first joiner: items' ids hold none, ids of parts may.
            owner, joiner, part = native.partition(self.style.joiner)
            key = self._reverse.get(owner) if joiner and part else None
            return None if key is None else token_for(key, part)
        key = self.part_owner.get(native)
        if key is None:
            return None
        outward = {there: here for here, there in self.inner.get(key, {}).items()}
        return token_for(key, outward.get(native, native))

    def url_tokens(self) -> dict[str, str]:
        """URL prefixes of this environment with their tokens, longest first."""
        if self._urls is None:
            urls = {str(v): token_for(k) for k, v in self.values.items() if k.startswith("url:") and v}
            # The longest first: `https://x/apps` before `https://x`, or the shorter would eat the longer.
            self._urls = dict(sorted(urls.items(), key=lambda pair: (-len(pair[0]), pair[0])))
        return self._urls

    @property
    def natives(self) -> Mapping[str, Key]:
        """The native ids and values that have a token, with its key."""
        return self._reverse

    def may_be_id(self, text: str) -> bool:
        """Whether a text as a whole can be a native id or value that has a token: cheaper than to ask for it."""
        joiner = self.style.joiner
        return text in self._reverse or text in self.part_owner or (bool(joiner) and joiner in text)

    def may_hold_ids(self, text: str) -> bool:
        """Whether a text can hold a native id or a URL at all."""
        return self.style.mark in text or "://" in text or any(url in text for url in self.url_tokens())

    def readings(self, hit: str) -> Iterator[str]:
        """What may be meant by something in a text that looks like an id: all of it, or what stands before a dot, for
        in `job~fill.level` the level may be that of `job~fill`."""
        yield hit
        # Only of ids that nothing else looks like: of others `flow` in `flow.get` may be one, and is none there.
        while self.style.mark and self.style.mark in hit and "." in hit:
            hit = hit.rpartition(".")[0]
            yield hit

    def text_pattern(self) -> re.Pattern[str]:
        """Matches, in a text, the URL prefixes and whatever looks like an id, at token boundaries."""
        if self._text is None:
            # Not followed by what could go on a host name: `https://mill.example` is no part of
            # `https://mill.example.org`.
            urls = "|".join(re.escape(url) + r"(?![A-Za-z0-9.-])" for url in self.url_tokens())
            ids = rf"(?<![A-Za-z0-9_])(?:{self.style.pattern})(?![A-Za-z0-9_])"
            self._text = re.compile(f"{urls}|{ids}" if urls else ids)
        return self._text
