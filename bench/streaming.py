"""Peak memory of writing and reading a package with one attachment of a given size, in bytes.

`make bench` runs it twice, with a small and with a large attachment, each in a process of its own.
"""

from __future__ import annotations

import hashlib
import resource
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from amphora.core.model import Contents, Item, States
from amphora.core.raw import PIECE_BYTES, sha256_of
from amphora.files.package import read_package, write_package


@dataclass(frozen=True)
class Noise:
    """Content that can't be compressed, made in pieces: the same every time."""

    size_bytes: int

    def chunks(self) -> Iterator[bytes]:
        for number in range(self.size_bytes // PIECE_BYTES):
            yield hashlib.shake_128(number.to_bytes(8, "big")).digest(PIECE_BYTES)


def main(size_bytes: int) -> str:
    """Writes and reads; returns peak memory in MB."""
    noise = Noise(size_bytes)
    name = sha256_of(noise)
    item = Item("app:bench", 1, {"icon": f"amphora:file:{name}#application%2Foctet-stream"}, States("Bench"))
    contents = Contents("bench", "1.0.0", "bench", "bench", {"app:bench": item}, (), files={name: noise})
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench-1.0.0.amphora"
        digest = write_package(contents, path)
        assert path.stat().st_size >= size_bytes
        assert read_package(path).package_digest == digest
        assert len(list(Path(folder).iterdir())) == 1
    return f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000:.0f}"


if __name__ == "__main__":
    print(main(int(sys.argv[1])))
