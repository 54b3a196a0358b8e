"""Canonical bytes (RFC 8785) and digests over them.

A fast encoder writes every value for which it agrees with the RFC to the byte: a look at its bytes shows that
for nearly all, a walk over the value for the rest. What it can't be trusted with (integral or very small
and large floats, member names beyond the surrogate range) goes to the RFC's own library.
"""

from __future__ import annotations

import hashlib
import json
import math
import re
from typing import Any

import orjson
import rfc8785

from amphora.core.values.errors import NotReady
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import Pointer, write_pointer

LARGEST_INTEGER = 2**53 - 1
_PLAIN = orjson.OPT_SORT_KEYS | orjson.OPT_PASSTHROUGH_DATACLASS | orjson.OPT_PASSTHROUGH_DATETIME
_BELOW_SURROGATES = bytes(range(0xEE))
"""The others begin, in UTF-8, the letters whose order as names differs between UTF-8 and UTF-16."""
_DIGITS_ALIKE = bytes(ord("0") if ord("0") < code <= ord("9") else code for code in range(256))
_TEXTS = re.compile(rb'"[^"\\]*(?:\\.[^"\\]*)*"')
_BESIDE_NUMBERS = bytes(code for code in range(128) if chr(code) not in "0123456789.e-,:{}[]")


class NotCanonical(NotReady):
    """A value that RFC 8785 can't hold; `place` is its JSON Pointer."""


def canonical_bytes(value: Any) -> bytes:
    """The RFC 8785 serialisation; NotCanonical for integers beyond 2^53-1, NaN, infinities and
    text that is not Unicode."""
    try:
        # Optimistic: nearly every value is plain, and looking at the bytes that come out costs a tenth of a walk over
        # the value.
        raw = orjson.dumps(value, option=_PLAIN)
        if _is_surely_plain(raw) or _is_fast(value):
            return raw
    except orjson.JSONEncodeError:
        pass  # the RFC library, or the explanation, says what is wrong
    try:
        return rfc8785.dumps(value)
    except (rfc8785.CanonicalizationError, UnicodeError, RecursionError) as error:
        raise _explained(value, error) from error


def digest(value: Any) -> str:
    """SHA-256 over the canonical bytes, in lower-case hexadecimal."""
    return hashlib.sha256(canonical_bytes(value)).hexdigest()


def loose_digest(value: Any) -> str:
    """A digest by which values are told apart that need not travel: that of their canonical bytes, and of another
    spelling where they have none. An item that nobody carries may hold an integer of eighteen digits, and whoever
    looks at its environment must not fail at that."""
    try:
        return digest(value)
    except NotCanonical:
        return hashlib.sha256(b"\0" + json.dumps(value, sort_keys=True).encode()).hexdigest()


def is_plain_float(value: float) -> bool:
    """Whether the fast encoder writes a float as the RFC does."""
    # Outside of this the RFC switches to exponents where the encoder does not, or the other way round (ECMAScript,
    # Number::toString); integral floats lose their ".0" in the RFC.
    return 1e-5 <= abs(value) < 1e15 and not value.is_integer()


def same(left: Any, right: Any) -> bool:
    """Whether two JSON values are equal as JSON: `true` is not 1, and 1.0 is 1."""
    if isinstance(left, dict) and isinstance(right, dict):
        # Python's own == would do, were it not for `True == 1` somewhere below.
        return left.keys() == right.keys() and all(same(value, right[name]) for name, value in left.items())
    if isinstance(left, list) and isinstance(right, list):
        return len(left) == len(right) and all(map(same, left, right))
    # In Python True == 1; in JSON (RFC 8259, section 3) a literal name is never a number.
    if isinstance(left, bool) or isinstance(right, bool):
        return left is right
    return bool(left == right)


def _is_surely_plain(raw: bytes) -> bool:
    """Whether the fast encoder's bytes hold nothing in which it could differ from the RFC. May say no
    of what is plain (long fractions, null, which is also how it writes NaN); never yes of what is not."""
    # Names beyond the surrogates are sorted by UTF-16 units in RFC 8785, section 3.2.3, and by UTF-8 bytes there.
    if not (raw.isascii() or not raw.translate(None, _BELOW_SURROGATES)):
        return False
    if b"null" in raw:
        # Written for NaN, too: the walk over the value is needed in nearly every case, and sooner done.
        return False
    # Without its texts only where it matters: ids are full of what looks like an exponent.
    return _has_plain_numbers(raw) or _has_plain_numbers(_TEXTS.sub(b"", raw))


def _has_plain_numbers(raw: bytes) -> bool:
    numbers = raw.translate(None, _BESIDE_NUMBERS)
    if b".0," in numbers or b".0}" in numbers or b".0]" in numbers or numbers.endswith(b".0"):
        return False
    digits = numbers.translate(_DIGITS_ALIKE)
    # Sixteen digits in a row may be an integer beyond 2^53; an exponent may be spelled in another way than the RFC's.
    return not (b"0" * 16 in digits or b"0e0" in digits or b"0e-" in digits)


def _is_fast(value: Any) -> bool:
    kind = type(value)
    if kind is str or value is None or kind is bool:
        return True
    if kind is int:
        return bool(-LARGEST_INTEGER <= value <= LARGEST_INTEGER)
    if kind is float:
        return is_plain_float(value)
    # Below U+D800 the order by code point, by UTF-8 byte and by UTF-16 unit is one and the same.
    if kind is dict:
        # Texts in place, which most members are: a call for each would take longer than to look at it.
        return all(
            type(name) is str and name < "\ud800" and (type(part) is str or _is_fast(part))
            for name, part in value.items()
        )
    return kind is list and all(map(_is_fast, value))


def _explained(value: Any, error: Exception) -> NotCanonical:
    place, reason = _culprit(value, ()) or ((), str(error) or type(error).__name__)
    return NotCanonical(
        f"A value can't be carried exactly: {reason}",
        place=write_pointer(place) or "the whole document",
        next_step=advice("Change the value in the source, or keep it as text there."),
    )


def _culprit(value: Any, at: Pointer) -> tuple[Pointer, str] | None:
    if isinstance(value, bool):
        return None
    # Refused, never rounded: an id of eighteen digits that comes back with its last ones changed points to somebody
    # else's item.
    if isinstance(value, int) and abs(value) > LARGEST_INTEGER:
        return at, f"the integer {str(value)[:40]} is beyond 2^53-1, where JSON numbers lose digits."
    if isinstance(value, float) and not math.isfinite(value):
        return at, f"the number {value} is not finite"
    if isinstance(value, str) and any("\ud800" <= letter <= "\udfff" for letter in value):
        return at, "the text holds half a character (a lone surrogate)"
    members = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for name, part in members:
        # Names too: a lone surrogate in a member name can't be written either.
        found = _culprit(str(name), at) or _culprit(part, (*at, str(name)))
        if found:
            return found
    return None
