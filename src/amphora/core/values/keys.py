"""Keys: `kind:path`, the lasting name of an item.

A path is made of segments, each percent-encoded outside the unreserved characters of RFC 3986; a
leading dot and `~` are encoded too, so that neither `..` nor the suffix of a doubled name can arise
from a title. Unicode is brought to NFC first.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from urllib.parse import quote, unquote

Key = str
_KEY = re.compile(r"[a-z][a-z0-9-]*:[A-Za-z0-9\-._~%]+(?:/[A-Za-z0-9\-._~%]+)*")


def encode_segment(text: str) -> str:
    """One path segment in its encoded form; never empty, never starting with a dot.

    >>> encode_segment("Öl / Presse ~2")
    '%C3%96l%20%2F%20Presse%20%7E2'
    """
    # RFC 3986 calls ~ unreserved; here it marks the number of a doubled name, so that no title may bring one.
    coded = quote(unicodedata.normalize("NFC", text) or "unnamed", safe="").replace("~", "%7E")
    # A leading dot: paths become file names in packages and folders, where `..` leads out and `.git` would be hidden
    # or worse.
    return "%2E" + coded[1:] if coded.startswith(".") else coded


def encode_exact(text: str) -> str:
    """An id as it stands, percent-encoded: not brought to NFC, so that it comes back unchanged."""
    return quote(text, safe="").replace("~", "%7E")


def decode_segment(segment: str) -> str:
    """The text that `encode_segment` was given (in NFC)."""
    return unquote(segment)


def make_key(kind: str, segments: Iterable[str]) -> Key:
    """The key of a kind and raw path segments (folders and name)."""
    return f"{kind}:{'/'.join(encode_segment(part) for part in segments)}"


def kind_of(key: Key) -> str:
    """The kind in a key."""
    return key.partition(":")[0]


def path_of(key: Key) -> str:
    """The encoded path in a key."""
    return key.partition(":")[2]


def name_of(key: Key) -> str:
    """The last segment of a key's path, as people read it."""
    return decode_segment(path_of(key).rpartition("/")[2])


def readable(key: Key) -> str:
    """A key as people read it: percent-encoding undone."""
    return f"{kind_of(key)}:{'/'.join(decode_segment(part) for part in path_of(key).split('/'))}"


def told_apart(titles: Mapping[Key, str]) -> dict[Key, str]:
    """Titles by which people know which item is meant: one that several have stands with the item's key."""
    count = Counter(titles.values())
    return {key: title if count[title] == 1 else f"{title} ({readable(key)})" for key, title in titles.items()}


def is_key(text: str) -> bool:
    """Whether a text is a well-formed key with no segment made of dots alone."""
    return _KEY.fullmatch(text) is not None and not any(
        # Asked again although encoding never makes one: keys also come from packages that others wrote.
        segment.startswith(".")
        for segment in path_of(text).split("/")
    )


def as_key(text: str) -> Key:
    """The key that a text means, encoded or as people read it; empty for one that is none.

    >>> as_key("flow:mill/press"), as_key("flow:mill/Press it"), as_key("press"), as_key("4")
    ('flow:mill/press', 'flow:mill/Press%20it', '', '')
    """
    kind, _, path = text.partition(":")
    key = text if is_key(text) else make_key(kind, path.split("/"))
    return key if path and is_key(key) else ""


def free_key(wanted: Key, taken: Collection[Key], numbers: dict[Key, int] | None = None) -> Key:
    """`wanted`, or the first of `wanted~2`, `wanted~3` … that is not taken. `numbers` remembers where the
    search for a name ended, so that many of one name cost no more than many of different ones."""
    if wanted not in taken:
        return wanted
    number = (numbers or {}).get(wanted, 2)
    # The numbers are not filled up from below on purpose once `numbers` knows better: a key is for ever, and one that
    # was free yesterday may be remembered by a ledger.
    while f"{wanted}~{number}" in taken:
        number += 1
    if numbers is not None:
        numbers[wanted] = number + 1
    return f"{wanted}~{number}"
