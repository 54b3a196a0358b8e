"""The ZIP around the bag: written the same way every time, read without trust."""

from __future__ import annotations

import os
import stat
import tempfile
import unicodedata
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import BinaryIO

from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.core.values.raw import PIECE_BYTES, Raw, size_of
from amphora.files.bounds import MOST_RATIO, RATIO_COUNTS_FROM, ROW_BYTES, Bounds
from amphora.files.packer import Packer

LARGE = ("data/files/", "data/records/")
"""Where members lie that may be too large to be held in memory."""
LOCAL_HEADER = 30
"""The least size in bytes of what stands before a member's content."""

END_RECORD = 22
"""The least size in bytes of the record that ends a ZIP file."""

NONE_HERE = 0xFFFFFFFF
"""Stands in that record where the value is too large for it, and in another one (ZIP64)."""

_FIXED_TIME = (1980, 1, 1, 0, 0, 0)


def write_archive(path: Path, folder: str, files: Mapping[str, Raw]) -> None:
    """Writes all files below one folder into a ZIP; appears whole under its name or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.NamedTemporaryFile(dir=path.parent, prefix=".writing-", delete=False) as target:
        try:
            with zipfile.ZipFile(target, "w") as archive:
                # Sorted, with one time and one mode: the same contents are the same bytes, whoever writes them
                # and when.
                packer = Packer(archive, target)
                for name in sorted(files):
                    entry = zipfile.ZipInfo(f"{folder}/{name}", _FIXED_TIME)
                    entry.compress_type = zipfile.ZIP_DEFLATED
                    # Unix, on every machine: the library writes the system it runs on, and the bytes would differ by
                    # that.
                    entry.create_system = 3
                    entry.external_attr = 0o100644 << 16
                    entry.file_size = size_of(files[name])
                    packer.add(entry, files[name])
            # A power cut between the rename and the data would leave an empty file under the right name.
            target.flush()
            os.fsync(target.fileno())
        except BaseException:
            Path(target.name).unlink()
            raise
    # It stays readable for its owner only, as temporary files are made: it holds definitions.
    Path(target.name).replace(path)


def read_archive(path: Path) -> tuple[str, dict[str, Raw]]:
    """The folder and its files; PackageDamaged for whatever an honest writer would not have written.
    Attachments and records stay in the file and are read in pieces when they are asked for."""
    try:
        bounds = Bounds.here()
        with path.open("rb") as file:
            # The library reads the whole index before anybody can ask how long it is.
            if count_members(file) > bounds.members:
                raise bounds.refuse("it has more members than are read", "members")
            archive = zipfile.ZipFile(file)
            entries = archive.infolist()
            folder = _checked(entries, bounds)
            # Attachments and records are not unpacked here: their checksums are looked at when they are read.
            return folder, {
                name: Member(path, entry) if name.startswith(LARGE) else _content(file, entry)
                for entry in entries
                if not entry.is_dir() and (name := entry.filename[len(folder) + 1 :])
            }
    except (FileNotFoundError, IsADirectoryError) as error:
        raise UsageFault(
            f"There is no package file {path}.",
            subject=str(path),
            next_step=advice("Give its name in the workspace, or the path of a file that is there."),
        ) from error
    except PackageDamaged as error:
        raise PackageDamaged(
            f"{path.name} is refused: {error.message}",
            subject=str(path),
            place=error.place,
            next_step=advice("Ask for the file again, or export it once more."),
        ) from error
    except zipfile.BadZipFile as error:
        what = "is cut short or damaged" if _starts_as_zip(path) else "is not a package"
        raise PackageDamaged(
            f"{path.name} {what}: {error}.",
            subject=str(path),
            next_step=advice("Ask for the file again, or export it once more."),
        ) from error
    except (zlib.error, EOFError, OSError, NotImplementedError, RuntimeError, ValueError) as error:
        raise PackageDamaged(f"{path.name} can't be unpacked: {error}", subject=str(path)) from error


def _is_large(name: str) -> bool:
    """Whether a member is read in pieces: it lies where attachments and rows do, below the package's folder."""
    return name.partition("/")[2].startswith(LARGE)


@dataclass(frozen=True)
class Member:
    """One member of a ZIP file, read in pieces; PackageDamaged where size or checksum are wrong."""

    path: Path
    entry: zipfile.ZipInfo

    @property
    def size_bytes(self) -> int:
        return self.entry.file_size

    def chunks(self) -> Iterator[bytes]:
        size = 0
        try:
            with zipfile.ZipFile(self.path) as archive, archive.open(self.entry) as member:
                while piece := member.read(PIECE_BYTES):
                    size += len(piece)
                    yield piece
        # A name in the local header that can't be read raises a ValueError: the library trusts what stands there.
        except (
            zipfile.BadZipFile,
            zlib.error,
            EOFError,
            OSError,
            NotImplementedError,
            RuntimeError,
            ValueError,
        ) as error:
            raise PackageDamaged(f"{self.entry.filename} is damaged: {error}.", place=self.entry.filename) from error
        # Fewer bytes with a right checksum can't be, but a library may be lenient.
        if size != self.entry.file_size:
            raise PackageDamaged(f"{self.entry.filename} is cut short.", place=self.entry.filename)


def _starts_as_zip(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(4) == b"PK\x03\x04"


def count_members(file: BinaryIO) -> int:
    """How many members the index of a ZIP file has, by the signatures in it and not by what it says of itself."""
    size = file.seek(0, os.SEEK_END)
    tail_size = min(size, END_RECORD + 0xFFFF)
    file.seek(size - tail_size)
    tail = file.read(tail_size)
    at = tail.rfind(b"PK\x05\x06")
    # No end record in the last 64 KiB: a comment may not be longer (APPNOTE 4.3.16).
    if at < 0 or len(tail) - at < END_RECORD:
        file.seek(0)
        return 0  # the library says what is wrong with it
    index_bytes, start = (int.from_bytes(tail[at + n : at + n + 4], "little") for n in (12, 16))
    if index_bytes == NONE_HERE or start == NONE_HERE:
        # ZIP64: the sizes stand in another record (APPNOTE 4.3.14), somewhere before this one.
        start, index_bytes = 0, size
    # From the end, where the index lies whatever its offset says.
    file.seek(max(0, min(start, size) if start < size else 0))
    count, rest, waiting = 0, b"", index_bytes + tail_size
    while waiting > 0 and (piece := file.read(min(PIECE_BYTES, waiting))):
        waiting -= len(piece)
        count += (rest + piece).count(b"PK\x01\x02")
        # A signature may lie across two pieces.
        rest = piece[-3:]
    file.seek(0)
    return count


def _checked(entries: list[zipfile.ZipInfo], bounds: Bounds) -> str:
    if not entries:
        raise PackageDamaged("it is empty.")
    # By what is announced: unpacking stops at the announced size, so that nobody gains by announcing less.
    if sum(entry.file_size for entry in entries) > bounds.total_bytes:
        raise bounds.refuse("it is larger than a package may be", "total_bytes")
    held = [entry for entry in entries if not _is_large(entry.filename)]
    if sum(entry.file_size for entry in held) > bounds.json_bytes:
        raise bounds.refuse("its items take more memory than a package may", "json_bytes")
    for entry in held:
        is_list = entry.filename.endswith(("/data/packing-list.json", "/manifest-sha256.txt"))
        if entry.file_size > bounds.item_bytes + (ROW_BYTES * len(entries) if is_list else 0):
            raise bounds.refuse("one of its members is too large", "item_bytes", entry.filename)
    # Over the whole archive: many small members that each look harmless add up.
    unpacked, packed = (sum(getattr(e, size) for e in entries) for size in ("file_size", "compress_size"))
    # Small archives may be as regular as they like; forms of one kind do compress a hundredfold.
    if unpacked > RATIO_COUNTS_FROM and unpacked > MOST_RATIO * max(packed, 1):
        raise PackageDamaged("it unpacks to far more than any package would (a compression bomb).")
    folder = entries[0].filename.partition("/")[0]
    seen: dict[str, str] = {}
    for entry in entries:
        _check_entry(entry, folder)
        # On some file systems they would be one file, and the second would win; by Unicode's own folding, for some
        # bring names to one form too.
        folded = unicodedata.normalize("NFC", entry.filename).casefold()
        other = seen.setdefault(folded, entry.filename)
        if other != entry.filename:
            raise PackageDamaged("two of its members would be one file on some systems.", place=entry.filename)
    # A name that is a file and a folder can't be unpacked anywhere.
    folders = set[str]()
    for name in seen:
        folder_name = name.rpartition("/")[0]
        while folder_name and folder_name not in folders:
            folders.add(folder_name)
            folder_name = folder_name.rpartition("/")[0]
    if both := sorted(folders & {name for name in seen if not name.endswith("/")}):
        raise PackageDamaged("one of its members is a file and a folder.", place=seen[both[0]])
    _check_overlap(entries)
    if len(seen) != len(entries):
        raise PackageDamaged("it has two members of one name.")
    return folder


def _check_overlap(entries: list[zipfile.ZipInfo]) -> None:
    """Members that share bytes unpack to more than they take: no honest writer makes them."""
    end = -1
    for entry in sorted(entries, key=lambda entry: entry.header_offset):
        if entry.header_offset < end:
            raise PackageDamaged("two of its members share bytes (a compression bomb).", place=entry.filename)
        # At least: names and extra fields come on top, which an honest writer doesn't share either.
        end = entry.header_offset + LOCAL_HEADER + entry.compress_size


def _check_entry(entry: zipfile.ZipInfo, folder: str) -> None:
    name = entry.filename
    if not name:
        raise PackageDamaged("a member has no name.")
    parts = name.rstrip("/").split("/")
    is_outside = parts[0] != folder or (len(parts) < 2 and not entry.is_dir())
    if is_outside or any(part in ("", ".", "..") for part in parts) or "\\" in name or ":" in name or "\0" in name:
        raise PackageDamaged("a member lies outside the package's folder.", place=name)
    # Controls and marks that turn the direction of writing make a name look like another one.
    if not name.isprintable():
        raise PackageDamaged("a member has a name that can't be shown.", place=name)
    # Only what we write: a method that another reader knows and this one doesn't would be read by one of them only.
    if entry.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
        raise PackageDamaged("a member is compressed in a way that packages never are.", place=name)
    # A link that is unpacked first would lead whatever follows out of the folder.
    mode = entry.external_attr >> 16
    # No mode at all is fine: archives from other systems have none.
    if stat.S_ISLNK(mode) or (stat.S_IFMT(mode) and not (stat.S_ISREG(mode) or stat.S_ISDIR(mode))):
        raise PackageDamaged("a member is a link or a special file.", place=name)
    if entry.flag_bits & 0x1:
        raise PackageDamaged("a member is encrypted.", place=name)


def _content(file: BinaryIO, entry: zipfile.ZipInfo) -> bytes:
    """One member's bytes, straight from the file: what its own header says has to be what the index says."""
    file.seek(entry.header_offset)
    head = file.read(LOCAL_HEADER)
    if len(head) < LOCAL_HEADER or head[:4] != b"PK\x03\x04":
        raise PackageDamaged("a member is not where the index says.", place=entry.filename)
    name_size, extra_size = int.from_bytes(head[26:28], "little"), int.from_bytes(head[28:30], "little")
    # Two readers may trust one of the two names each: what was verified would not be what is unpacked elsewhere.
    name = file.read(name_size)
    if name != entry.orig_filename.encode("utf-8" if entry.flag_bits & 0x800 else "cp437", "replace"):
        raise PackageDamaged("a member has another name than the index says.", place=entry.filename)
    file.seek(extra_size, os.SEEK_CUR)
    packed = file.read(entry.compress_size)
    content = packed
    if entry.compress_type == zipfile.ZIP_DEFLATED:
        inflater = zlib.decompressobj(-zlib.MAX_WBITS)
        # One byte more than was announced tells a lie, without unpacking the rest of it.
        content = inflater.decompress(packed, entry.file_size + 1)
    elif entry.compress_type != zipfile.ZIP_STORED:
        raise PackageDamaged("a member is compressed in a way that packages never are.", place=entry.filename)
    if len(content) != entry.file_size or zlib.crc32(content) != entry.CRC:
        raise PackageDamaged(
            "a member is damaged: size or checksum is not what the index says.", place=entry.filename
        )
    return content
