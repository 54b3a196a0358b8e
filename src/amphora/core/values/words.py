"""Small pieces of sentences that several layers say alike."""

from __future__ import annotations

from collections.abc import Sequence


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun.

    >>> counted(1, "item"), counted(3, "item")
    ('1 item', '3 items')
    """
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def every(number: int, one: str) -> str:
    """All of what is told by their number, to begin with or in a sentence.

    >>> every(1, "item"), every(2, "item"), every(1200, "item")
    ('the one item', 'both items', 'all 1,200 items')
    """
    return f"the one {one}" if number == 1 else f"both {one}s" if number == 2 else f"all {number:,} {one}s"


def of_release(release: str, before: str = ", ") -> str:
    """Which release something is, behind what it is called; nothing where it does not tell.

    >>> of_release("6.1"), of_release("")
    (', release 6.1', '')
    """
    return f"{before}release {release}" if release else ""


def begun(sentence: str) -> str:
    """A sentence with its first letter large."""
    return sentence[:1].upper() + sentence[1:]


def ended(sentence: str) -> str:
    """A sentence with a full stop, if nothing ends it: another one follows."""
    return sentence if sentence.endswith((".", "!", "?", ":")) else f"{sentence}."


def few(names: Sequence[str], most: int = 3) -> str:
    """The first few of several names, and how many more there are."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more
