"""Rows of tables as JSON Lines, streamed both ways."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import orjson

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.raw import Raw, chunks_of
from amphora.core.values.strict_json import MOST_LEVELS, JsonFault, compact_bytes, parse_json
from amphora.files.bounds import Bounds


def write_rows(path: Path, rows: Iterator[Json]) -> None:
    """Writes rows, without holding them."""
    with path.open("wb") as file:
        for row in rows:
            file.write(compact_bytes(row) + b"\n")


def rows_of(raw: Raw) -> Iterator[Json]:
    """The rows, one by one; PackageDamaged where one can't be read."""
    try:
        yield from map(_row, _lines(raw))
    except JsonFault as error:
        raise PackageDamaged(
            f"Its rows can't be read: {error}.", next_step=advice("Export the package again.")
        ) from error


def _row(line: bytes) -> Json:
    """One row, strictly. What comes out the same to the byte, as we write it, held no doubled name, no NaN and no
    number that would have lost digits; that is ten times as fast to see."""
    if line.count(b"[") + line.count(b"{") <= MOST_LEVELS:
        try:
            quick = orjson.loads(line)
            if orjson.dumps(quick, option=orjson.OPT_SORT_KEYS) == line:
                return quick
        except (orjson.JSONDecodeError, orjson.JSONEncodeError):
            pass  # the slow way says what is wrong with it
    return parse_json(line)


def count_rows(raw: Raw) -> int:
    """How many rows there are."""
    return sum(1 for _ in _lines(raw))


def _lines(raw: Raw) -> Iterator[bytes]:
    rest = b""
    most = Bounds.here().item_bytes
    for piece in chunks_of(raw):
        *lines, rest = (rest + piece).split(b"\n")
        yield from filter(None, lines)
        # Without an end of line the whole member would come together in memory.
        if len(rest) > most:
            raise Bounds.here().refuse("A row is longer than any is", "item_bytes", "data/records")
    # A last line without its end counts: somebody may have edited the file by hand.
    if rest:
        yield rest
