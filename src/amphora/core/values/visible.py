"""Texts of others, made fit to be shown: nothing in a title, a key or a server's answer moves the cursor, forges a
line, turns the direction of writing, or is taken for a formula.
"""

from __future__ import annotations

import re
from typing import Final

_UNSEEN: Final = (
    # Controls (C0 and C1); marks and overrides of direction (UAX #9); separators of lines and paragraphs; what is
    # invisible and makes two names look alike; halves of characters, which no terminal takes.
    "\x7f-\x9f\u00ad\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"
    "\ud800-\udfff\U000e0000-\U000e007f"
)
# Joiners stay: scripts and pictures are written with them, and they move nothing.
_HIDDEN: Final = re.compile(f"[\x00-\x1f{_UNSEEN}]")
_NOT_IN_JSON: Final = re.compile(f"[{_UNSEEN}]")
"""The old controls are escaped in JSON anyway."""

LINE_END: Final = "⏎"

_FORMULA: Final = ("=", "+", "-", "@", "'", "\t", "\r", "\n", "＝", "＋", "－", "＠")
"""What a spreadsheet would take for the beginning of a formula, or strip to come to one."""


def visible(text: str) -> str:
    """The text with whatever can't be seen, or does something, as a visible mark.

    >>> visible("Weigh ticket\\nNext: rm\\x1b[2J")
    'Weigh ticket⏎Next: rm␛[2J'
    """
    # Nearly always, and quick to see. Not printable is also the space that doesn't break, which does no harm: only
    # what stands in the pattern is marked.
    return text if text.isprintable() else _HIDDEN.sub(_mark, text)


def escaped_json(text: str) -> str:
    """A JSON text with the same characters escaped (RFC 8259, section 7): inside strings, where alone they can be."""
    return _NOT_IN_JSON.sub(_escape, text)


def for_spreadsheet(text: str) -> str:
    """A cell that no spreadsheet runs: one that looks like a formula stands behind an apostrophe, and so does one
    that begins with an apostrophe, so that `from_spreadsheet` knows."""
    return f"'{text}" if text.startswith(_FORMULA) else text


def from_spreadsheet(text: str) -> str:
    """The inverse."""
    return text[1:] if text.startswith("'") else text


def _mark(found: re.Match[str]) -> str:
    code = ord(found[0])
    if code in (0x0A, 0x2028, 0x2029):
        return LINE_END
    # The control pictures of Unicode show the old controls one by one.
    if code < 0x20:
        return chr(0x2400 + code)
    return "␡" if code == 0x7F else f"‹U+{code:04X}›"


def _escape(found: re.Match[str]) -> str:
    code = ord(found[0])
    if code < 0x10000:
        return f"\\u{code:04x}"
    return f"\\u{0xD800 + ((code - 0x10000) >> 10):04x}\\u{0xDC00 + ((code - 0x10000) & 0x3FF):04x}"
