"""Raw content: bytes at hand, or something stored elsewhere that is read in pieces when it is needed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import Protocol

PIECE_BYTES = 1 << 20


class Stored(Protocol):
    """Content that is not held in memory. `chunks` can be asked for any number of times."""

    @property
    def size_bytes(self) -> int:
        """How much there is."""

    def chunks(self) -> Iterator[bytes]:
        """The content in pieces, from the beginning."""


Raw = bytes | Stored


def chunks_of(raw: Raw) -> Iterator[bytes]:
    """The content in pieces."""
    # One way for both: a package of gigabytes and one in a test go through the same code.
    return iter((raw,)) if isinstance(raw, bytes) else raw.chunks()


def size_of(raw: Raw) -> int:
    """The size in bytes."""
    return len(raw) if isinstance(raw, bytes) else raw.size_bytes


def whole(raw: Raw) -> bytes:
    """All of it at once: for what is small, or has to be."""
    return raw if isinstance(raw, bytes) else b"".join(raw.chunks())


def sha256_of(raw: Raw) -> str:
    """SHA-256 in lower-case hexadecimal, without holding more than a piece."""
    if isinstance(raw, bytes):
        return hashlib.sha256(raw).hexdigest()
    total = hashlib.sha256()
    for piece in raw.chunks():
        total.update(piece)
    return total.hexdigest()
