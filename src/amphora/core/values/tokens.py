"""Tokens: what stands in a portable form where a value belongs to one environment.

A whole value is `amphora:KIND:PATH` or `amphora:KIND:PATH#PART`; inside a text it is
`${amphora:KIND:PATH}`. Whatever a user wrote that looks like either is escaped by `literal:` after
`amphora:`, in every string, so that a form describes itself: the places of its tokens can always be
found again by reading it.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Final

from amphora.core.values.keys import decode_segment, encode_exact
from amphora.core.values.late import dataclass

PREFIX: Final = "amphora:"
LITERAL: Final = "amphora:literal:"
MASK: Final = "amphora:masked"
"""Stands in a native definition where a secret was; on writing it means: keep what is there."""

_BODY = r"([a-z][a-z0-9-]*):([A-Za-z0-9\-._~%/]+)(?:#([A-Za-z0-9\-._~%]+))?"
_WHOLE = re.compile(r"amphora:(?!literal:)" + _BODY)
_IN_TEXT = re.compile(r"\$\{amphora:literal:|\$\{(amphora:(?!literal:)" + _BODY + r")\}")

NEED_KINDS: Final = ("connection", "setting", "person", "url", "secret")


@dataclass(frozen=True, slots=True)
class Token:
    """A token taken apart: `kind`, encoded `path`, and the decoded `part` if it names one."""

    kind: str
    path: str
    part: str | None = None

    @property
    def key(self) -> str:
        """The key (or need) that the token names, without its part."""
        return f"{self.kind}:{self.path}"

    @property
    def is_item(self) -> bool:
        """Whether it names an item, rather than a need, a file or nothing."""
        return not self.is_need and self.kind not in ("unbound", "file")

    @property
    def is_need(self) -> bool:
        """Whether the target supplies it, rather than an item."""
        return self.kind in NEED_KINDS

    def __str__(self) -> str:
        # Parts are ids, not titles: bringing them to NFC would lose the difference between two of them.
        tail = "" if self.part is None else "#" + encode_exact(self.part)
        return f"{PREFIX}{self.kind}:{self.path}{tail}"


@dataclass(frozen=True, slots=True)
class TokenPlace:
    """Where a token stands: JSON Pointer (RFC 6901), token, and whether inside a text."""

    pointer: str
    token: str
    in_text: bool


def is_of_item(key: str) -> bool:
    """Whether a key is that of an item, and not that of a need, a file or nothing."""
    return key.partition(":")[0] not in (*NEED_KINDS, "unbound", "file")


def token_for(key: str, part: str | None = None) -> str:
    """The token of an item or need, or of a part of an item."""
    return PREFIX + key if part is None else f"{PREFIX}{key}#{encode_exact(part)}"


def unbound(native: str) -> str:
    """The token of an id that resolves to nothing."""
    return f"amphora:unbound:{encode_exact(native)}"


_SHA256: Final = re.compile("[0-9a-f]{64}")


def parse_token(text: object) -> Token | None:
    """A whole value as a token, or None where it is none."""
    if not isinstance(text, str) or not text.startswith(PREFIX):
        return None
    return _taken_apart(text)


def is_secret(text: object) -> bool:
    """Whether a value is the token of a secret."""
    token = parse_token(text)
    return token is not None and token.kind == "secret"


def attachment_of(text: object) -> str | None:
    """The SHA-256 by which a value names an attachment, in lower-case hexadecimal; None where it names none. Nothing
    else is taken for one: of what a server says, names of files and addresses are made."""
    token = parse_token(text)
    return token.path if token and token.kind == "file" and _SHA256.fullmatch(token.path) else None


@lru_cache(65536)
def _taken_apart(text: str) -> Token | None:
    found = _WHOLE.fullmatch(text)
    # What only begins like a token is the user's own text; escaping has made sure that none of it looks whole.
    if found is None:
        return None
    part = found[3]
    return Token(found[1], found[2], None if part is None else decode_segment(part))


def escape(text: str) -> str:
    """A user's own string in portable form: nothing in it can be taken for a token."""
    if PREFIX not in text:
        return text
    # Inside first, then the beginning: the other way round the mark just written would be escaped once more.
    # Every `${amphora:`, whether a token follows or not: a rule that looks at what follows would have to be the same
    # in every version, for ever.
    text = text.replace("${amphora:", "${amphora:literal:")
    # One that is escaped already gets a second mark, so that `unescape` gives back exactly what was there.
    return LITERAL + text[len(PREFIX) :] if text.startswith(PREFIX) else text


def unescape(text: str) -> str:
    """The inverse of `escape`."""
    if PREFIX not in text:
        return text
    if text.startswith(LITERAL):
        text = PREFIX + text[len(LITERAL) :]
    return text.replace("${amphora:literal:", "${amphora:")


def render_text(text: str, value_of: Callable[[str], object]) -> str:
    """A portable text with each token replaced by what `value_of` gives, and escapes undone."""
    if PREFIX not in text:
        return text
    if text.startswith(LITERAL):
        text = PREFIX + text[len(LITERAL) :]
    # One pass for tokens and escapes: two passes would unescape what a value has just brought in.
    return _IN_TEXT.sub(lambda m: str(value_of(m[1])) if m[1] else "${amphora:", text)


def rewritten(text: str, change: Callable[[Token], str]) -> str:
    """A portable string with each token as `change` gives it; what is escaped in it stays so."""
    if PREFIX not in text:
        return text
    whole = parse_token(text)
    if whole is not None:
        return change(whole)

    def one(found: re.Match[str]) -> str:
        token = parse_token(found[1])
        return found[0] if token is None else "${" + change(token) + "}"

    return _IN_TEXT.sub(one, text)


def tokens_in(text: str) -> list[tuple[str, bool]]:
    """All tokens of one string: (token, whether inside a text), in order."""
    if PREFIX not in text:
        return []
    # A whole value is never looked at as a text: its part may hold what looks like a token inside one.
    if _WHOLE.fullmatch(text):
        return [(text, False)]
    return [(m[1], True) for m in _IN_TEXT.finditer(text) if m[1]]
