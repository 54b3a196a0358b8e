"""Small pieces of sentences that several layers say alike."""

from __future__ import annotations

from collections.abc import Sequence


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun.

    >>> counted(1, "item"), counted(3, "item")
    ('1 item', '3 items')
    """
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def of_release(release: str, before: str = ", ") -> str:
    """Which release something is, behind what it is called; nothing where it does not tell.

    >>> of_release("6.1"), of_release("")
    (', release 6.1', '')
    """
    return f"{before}release {release}" if release else ""


def ended(sentence: str) -> str:
    """A sentence with a full stop, if nothing ends it: another one follows."""
    return sentence if sentence.endswith((".", "!", "?", ":")) else f"{sentence}."


def few(names: Sequence[str], most: int = 3) -> str:
    """The first few of several names, and how many more there are."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more
