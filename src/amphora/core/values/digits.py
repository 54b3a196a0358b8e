"""Numbers as people and files write them."""

from __future__ import annotations

LONGEST = 15
"""Digits beyond which nothing that is counted here is a number: a text of thousands can't even be read as one."""


def is_number(text: str) -> bool:
    """Whether a text is a whole number, written in plain digits.

    >>> [is_number(text) for text in ("12", "", "-1", "\\u00b2", "9" * 5000)]
    [True, False, False, False, False]
    """
    # Python takes digits of any script for digits, raised ones too, and then can't read those.
    return text.isascii() and text.isdigit() and len(text) <= LONGEST
