"""Peak memory of writing and reading a package with one large thing in it: `bytes N` an attachment of N bytes,
`rows N` a table's N rows. `make bench` runs it with little and with much, each in a process of its own.
"""

from __future__ import annotations

import hashlib
import resource
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from amphora.core.values.model import Contents, Item, States
from amphora.core.values.raw import PIECE_BYTES, sha256_of
from amphora.files.package import read_package, write_package

PORTION = 1000


@dataclass(frozen=True)
class Noise:
    """Content that can't be compressed, made in pieces: the same every time."""

    size_bytes: int

    def chunks(self) -> Iterator[bytes]:
        for number in range(self.size_bytes // PIECE_BYTES):
            yield hashlib.shake_128(number.to_bytes(8, "big")).digest(PIECE_BYTES)


@dataclass(frozen=True)
class Rows:
    """Rows of a table as JSON Lines, made in portions."""

    count: int

    @cached_property
    def size_bytes(self) -> int:
        return sum(map(len, self.chunks()))

    def chunks(self) -> Iterator[bytes]:
        for start in range(0, self.count, PORTION):
            rows = (
                f'{{"batch":{number},"kilos":{number % 997},"variety":"v{number % 7}"}}\n'
                for number in range(start, start + PORTION)
            )
            yield "".join(rows).encode()


def with_attachment(size_bytes: int) -> Contents:
    """A package with one attachment."""
    noise = Noise(size_bytes)
    name = sha256_of(noise)
    item = Item("app:bench", 1, {"icon": f"amphora:file:{name}#application%2Foctet-stream"}, States("Bench"))
    return Contents("bench", "1.0.0", "bench", "bench", {"app:bench": item}, (), files={name: noise})


def with_rows(count: int) -> Contents:
    """A package with one table and its rows."""
    item = Item("table:bench", 1, {"columns": []}, States("Bench"))
    return Contents(
        "bench", "1.0.0", "bench", "bench", {"table:bench": item}, (), records={"table:bench": Rows(count)}
    )


def main(contents: Contents) -> str:
    """Writes and reads; returns peak memory in MB."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench-1.0.0.amphora"
        digest = write_package(contents, path)
        assert read_package(path).package_digest == digest
        assert len(list(Path(folder).iterdir())) == 1
    return f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000:.0f}"


if __name__ == "__main__":
    make = {"bytes": with_attachment, "rows": with_rows}[sys.argv[1]]
    print(main(make(int(sys.argv[2]))))
