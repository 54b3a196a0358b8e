"""Small pieces of sentences that several layers say alike."""

from __future__ import annotations

from collections.abc import Sequence


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun.

    >>> counted(1, "item"), counted(3, "item")
    ('1 item', '3 items')
    """
    return f"{number} {one if number == 1 else many or one + 's'}"


def few(names: Sequence[str], most: int = 3) -> str:
    """The first few of several names, and how many more there are."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more
