"""Secrets that no sheet declares: found by the name of the place and by the look of the value."""

from __future__ import annotations

import re
from collections.abc import Iterator

from amphora.core.form.places import Walk
from amphora.core.form.visit import visited
from amphora.core.values.model import Json
from amphora.core.values.pointers import write_pointer
from amphora.core.values.tokens import tokens_in

_NAMES = re.compile(
    r"(?i)(^|[_\-.])(pass(word|wd|phrase)?|pwd|secret|token|api[_\-]?key|private[_\-]?key)$|apikey$|password$|secret$|token$"
)
_VALUES = re.compile(
    r"-----BEGIN [A-Z ]*PRIVATE KEY-----"
    r"|\beyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}"
    r"|\bBearer [A-Za-z0-9._~+/-]{16,}"
    r"|://[^/\s:@]+:[^/\s:@]{3,}@"
)


_NAME_HINTS = (b"pass", b"pwd", b"secret", b"token", b"key")


def may_hold_secrets(raw: bytes, has_long_words: bool, has_address: bool) -> bool:
    """Whether a form's bytes give any reason to look for secrets in it. Tokens have long words (of 16 letters
    and more), and an address with a password has an @; the caller has looked for both."""
    if (has_address and b"://" in raw) or (has_long_words and (b"eyJ" in raw or b"Bearer " in raw)):
        return True
    lower = raw.lower()
    return any(hint in lower for hint in _NAME_HINTS)


def masked_value(value: str) -> str:
    """A secret as it may be shown: enough to find it, not enough to use it."""
    shown = value[:2] if len(value) >= 12 else ""
    return f"{shown}… ({len(value)} characters)"


def detected_secrets(form: Json, walk: Walk) -> Iterator[tuple[str, str]]:
    """The places (JSON Pointers) and values in clear that are secrets by every appearance."""
    for here in visited(form, walk, is_thorough=True):
        value = here.value
        if isinstance(value, str) and not here.walk.spot.is_secret and not tokens_in(value):
            # An element of an array goes by the name of the array.
            name = next((part for part in reversed(here.at) if not part.isdigit()), "")
            if looks_secret(name, value):
                yield write_pointer(here.at), value


def looks_secret(name: str, value: str) -> bool:
    """Whether a value at a place of this name is a secret by every appearance."""
    is_named = _NAMES.search(name) is not None and len(value) >= 6 and " " not in value
    return (is_named and not value.startswith(("${", "$("))) or _VALUES.search(value) is not None
