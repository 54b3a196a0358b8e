"""The glance at a form's bytes before it is searched for secrets: quick, and never wrong where it says that there is
none, as it does for most forms. Names come from the detector's own tables, shapes from the table of shapes.
"""

from __future__ import annotations

import re
from functools import lru_cache
from hashlib import blake2b
from typing import Final

from amphora.core.form.detector import DIGITS, KEYS, STRONG, TAILS, WEAK
from amphora.core.form.shapes import SHAPES

_WORDS: Final = tuple(b"pass pwd secret token cred auth cookie session bearer basic signature".split())
"""What most names of secrets hold, and other texts seldom."""

_SIGNS: Final = tuple(b"eyj data: akia asia aiza ltai eaac sig= ==".split())
"""What shapes hold to the letter."""

_SHORT: Final = 4
"""A name of so many letters stands inside of other words all the time: it counts at the end of a word only."""

_NAMES: Final = tuple(
    word.encode() for word in sorted({*STRONG, *WEAK, *DIGITS}) if not any(part in word.encode() for part in _WORDS)
)
_LONG_NAMES: Final = tuple(name for name in _NAMES if len(name) > _SHORT)
_SHORT_NAMES: Final = tuple(name for name in _NAMES if len(name) <= _SHORT)
_BEFORE_KEY: Final = tuple(word.encode() for word in sorted(KEYS))
_LONGEST: Final = max(map(len, _BEFORE_KEY))
_NO_WORDS: Final = bytes(set(range(256)) - set(b'0123456789abcdefghijklmnopqrstuvwxyz"'))
"""What stands between the words of a name. The quotation mark ends a name, and keeps it apart from its value."""


_MOST_REMEMBERED: Final = 20_000
_harmless: set[bytes] = set()
"""Digests of what was glanced at and gave no reason: a run sees each form again and again, in the package, in the
docket, in the target before and after."""


def may_hold(raw: bytes) -> bool:
    """Whether a form's bytes give any reason to look for secrets in it."""
    digest = blake2b(raw, digest_size=16).digest()
    if digest in _harmless:
        return False
    if _gives_reason(raw):
        return True
    if len(_harmless) >= _MOST_REMEMBERED:
        _harmless.clear()
    _harmless.add(digest)
    return False


def _gives_reason(raw: bytes) -> bool:
    # Our own word for a declared secret is no reason to look: it stands in most forms that have one.
    lower = raw.lower().replace(b"amphora:secret:", b"")
    # Without what separates words: `api-key`, `apiKey` and `API_KEY` are one name.
    squeezed = lower.translate(None, _NO_WORDS)
    if any(part in squeezed for part in _WORDS) or any(sign in lower for sign in _SIGNS):
        return True
    if any(name in squeezed for name in _LONG_NAMES) or _has_key(squeezed) or (b"://" in lower and b"@" in lower):
        return True
    if any(name in squeezed and _ends_a_word(name, lower, squeezed) for name in _SHORT_NAMES):
        return True
    return any(pattern.search(lower) for pattern in _glimpses())


def _has_key(squeezed: bytes) -> bool:
    """Whether a `key` stands there that is named as a secret one."""
    at = squeezed.find(b"key")
    while at >= 0:
        if squeezed.endswith(_BEFORE_KEY, max(0, at - _LONGEST), at):
            return True
        at = squeezed.find(b"key", at + 1)
    return False


def _ends_a_word(name: bytes, *texts: bytes) -> bool:
    pattern = _at_the_end(name)
    return any(pattern.search(text) for text in texts)


@lru_cache(len(_SHORT_NAMES))
def _at_the_end(name: bytes) -> re.Pattern[bytes]:
    tails = "|".join(sorted(TAILS)).encode()
    return re.compile(rb"%bs?(?:[^a-z0-9]?(?:%b|[0-9]+))*(?![a-z])" % (name, tails))


@lru_cache(1)
def _glimpses() -> tuple[re.Pattern[bytes], ...]:
    """What every match of a shape holds that names and signs don't tell of; each by itself, for all in one would
    begin with any sign."""
    return tuple(re.compile(shape.glimpse.encode()) for shape in SHAPES if shape.glimpse)
