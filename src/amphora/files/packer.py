"""The packer: writes the members of an archive, and sees to it that nobody could take the whole for a bomb."""

from __future__ import annotations

import zipfile
import zlib
from typing import IO

from amphora.core.values.raw import PIECE_BYTES, Raw, chunks_of
from amphora.files.bounds import MOST_RATIO, RATIO_COUNTS_FROM

ZIP64_FROM = 2**31 - 1
COMPRESSION = 6


class Packer:
    """Compresses as DEFLATE does (RFC 1951). What is so regular that a thousandth would be left of it (a table of
    noughts, an empty disk) is compressed an eighth as well from where the archive would be refused."""

    def __init__(self, archive: zipfile.ZipFile, file: IO[bytes]) -> None:
        self._archive, self._file = archive, file
        self._unpacked = self._packed = 0

    def add(self, entry: zipfile.ZipInfo, raw: Raw) -> None:
        """Adds one member. What is large goes through in pieces: an attachment of gigabytes may be behind it."""
        entry.header_offset = self._archive.start_dir
        if isinstance(raw, bytes) and len(raw) <= PIECE_BYTES:
            press = self._press(self._strategy(len(raw)))
            packed = press.compress(raw) + press.flush()
            entry.CRC, entry.compress_size = zlib.crc32(raw), len(packed)
            self._unpacked += len(raw)
            self._packed += len(packed)
            written = self._file.write(entry.FileHeader() + packed)
            self._archive.start_dir += written
        else:
            self._add_in_pieces(entry, raw)
        self._archive.filelist.append(entry)
        self._archive.NameToInfo[entry.filename] = entry

    def _add_in_pieces(self, entry: zipfile.ZipInfo, raw: Raw) -> None:
        file, is_long = self._file, entry.file_size > ZIP64_FROM
        entry.CRC = entry.file_size = entry.compress_size = 0
        # Its place is kept; what stands in it is known once the content is written.
        file.write(entry.FileHeader(is_long))
        strategy = zlib.Z_DEFAULT_STRATEGY
        press = self._press(strategy)
        for chunk in chunks_of(raw):
            for at in range(0, len(chunk), PIECE_BYTES):
                piece = chunk[at : at + PIECE_BYTES]
                if strategy != (wanted := self._strategy(len(piece))):
                    self._write(entry, press.flush(zlib.Z_FULL_FLUSH))
                    strategy, press = wanted, self._press(wanted)
                self._unpacked += len(piece)
                entry.CRC = zlib.crc32(piece, entry.CRC)
                entry.file_size += len(piece)
                self._write(entry, press.compress(piece))
        self._write(entry, press.flush())
        self._archive.start_dir = file.tell()
        file.seek(entry.header_offset)
        file.write(entry.FileHeader(is_long))
        file.seek(self._archive.start_dir)

    def _press(self, strategy: int) -> zlib._Compress:
        # Without zlib's own header, as a ZIP member has it.
        return zlib.compressobj(COMPRESSION, zlib.DEFLATED, -zlib.MAX_WBITS, strategy=strategy)

    def _strategy(self, size: int) -> int:
        unpacked = self._unpacked + size
        # Half of what is refused: what is still to come may be regular, too.
        is_regular = unpacked > RATIO_COUNTS_FROM // 2 and unpacked > MOST_RATIO // 2 * self._packed
        return zlib.Z_HUFFMAN_ONLY if is_regular else zlib.Z_DEFAULT_STRATEGY

    def _write(self, entry: zipfile.ZipInfo, packed: bytes) -> None:
        self._packed += len(packed)
        entry.compress_size += len(packed)
        self._file.write(packed)
