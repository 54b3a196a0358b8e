"""A package as a plain folder made for version control, or as a git revision of one.

The same tree as in the bag, without manifests. What people edit by hand is taken as it is: digests, token
places and needs are computed anew, and every file is validated with its name and line.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from amphora.core.needs.needs import needs_of
from amphora.core.values.canon import NotCanonical
from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item, States
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.raw import PIECE_BYTES, Raw, chunks_of, sha256_of, size_of, whole
from amphora.core.values.strict_json import JsonFault, parse_json, pretty_bytes
from amphora.files.archive import LARGE
from amphora.files.bag import MANIFEST, TAG_MANIFEST
from amphora.files.bounds import Bounds
from amphora.files.git import read_tree
from amphora.files.links import below
from amphora.files.members import item_members
from amphora.files.package import contents_of, package_digest_of, package_files, packing_row
from amphora.files.packing_list import PACKING_LIST

ATTRIBUTES = ".gitattributes"
_TAG_FILES = frozenset({"bagit.txt", "bag-info.txt", MANIFEST, TAG_MANIFEST})


@dataclass(frozen=True)
class OnDisk:
    """A file's content, read in pieces."""

    path: Path

    @property
    def size_bytes(self) -> int:
        return self.path.stat().st_size

    def chunks(self) -> Iterator[bytes]:
        with self.path.open("rb") as file:
            while piece := file.read(PIECE_BYTES):
                yield piece


def write_folder(contents: Contents, folder: Path) -> int:
    """Lays a package out in a folder, which is new, empty, or one of ours; returns the number of files
    that changed. Files of items that are no longer packed are removed, others are left alone."""
    # Files of items that are gone will be removed below: never in a folder that is somebody's.
    is_ours = (folder / PACKING_LIST).is_file()
    if folder.exists() and not is_ours and any(entry.name != ".git" for entry in folder.iterdir()):
        raise UsageFault(
            f"{folder} holds something else.",
            subject=str(folder),
            next_step=advice("Choose a new folder, an empty one, or one that a package was laid out in."),
        )
    files = {name: raw for name, raw in package_files(contents).items() if name not in _TAG_FILES}
    # Or a git on another system would change the ends of lines, and with them every digest.
    files[ATTRIBUTES] = b"* -text\n"
    present = set(_names(below(folder, "data"), "data/")) if is_ours else set()
    # All of them before the first byte: a link that is found half-way would leave half a package.
    paths = {name: below(folder, name) for name in [*files, *present]}
    changed = 0
    for name, raw in files.items():
        path = paths[name]
        # Not written again: a version control system would look at every file.
        if path.is_file() and path.stat().st_size == size_of(raw) and sha256_of(OnDisk(path)) == sha256_of(raw):
            continue
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("wb") as file:
            file.writelines(chunks_of(raw))
        changed += 1
    for name in present - set(files):
        paths[name].unlink()
        changed += 1
    _drop_empty(folder / "data")
    return changed


def read_folder(folder: Path) -> Contents:
    """Reads a folder; PackageDamaged with file and line for what can't be used."""
    if not below(folder, PACKING_LIST).is_file():
        raise PackageDamaged(
            f"{folder} holds no package: there is no {PACKING_LIST}.",
            subject=str(folder),
            next_step=to_type("to-folder", blank("PACKAGE"), blank("FOLDER")),
        )
    files: dict[str, Raw] = {}
    bounds, held_bytes = Bounds.here(), 0
    for name in _names(below(folder, "data"), "data/"):
        path = below(folder, name)
        if not path.is_file():
            raise PackageDamaged(f"{path} is a special file.", subject=str(path), next_step=advice("Take it out."))
        if not name.startswith(LARGE):
            held_bytes += path.stat().st_size
        if held_bytes > bounds.json_bytes:
            raise bounds.refuse("Its items take more memory than a package may", "json_bytes", str(folder))
        files[name] = OnDisk(path) if name.startswith(LARGE) else path.read_bytes()
    return folder_contents(files, str(folder))


def read_git(location: str) -> Contents:
    """Reads `git:REPO@REV:FOLDER`; nothing is checked out."""
    return folder_contents(read_tree(location), location)


def folder_contents(files: Mapping[str, Raw], where: str) -> Contents:
    """The contents of a folder's files, with everything computed anew that can be computed."""
    listing = _parsed(files, PACKING_LIST, where)
    rows = listing.get("contents") if isinstance(listing, dict) else None
    if not isinstance(rows, list) or not all(
        isinstance(row, dict) and isinstance(row.get("key"), str) for row in rows
    ):
        raise _damaged(where, PACKING_LIST, "it has no proper list of contents")
    members = item_members([row["key"] for row in rows])
    renewed = [_renewed(row, files, members[row["key"]], where) for row in rows]
    try:
        listed = pretty_bytes({**listing, "contents": renewed, "contents_digest": None})
    except TypeError as error:
        # JSON has numbers of any size, and what we write has not.
        raise _damaged(where, PACKING_LIST, "a number in it is larger than any that is kept") from error
    sheet_files = {**files, PACKING_LIST: listed}
    try:
        contents = contents_of(sheet_files, is_edited=True)
    except PackageDamaged as error:
        raise PackageDamaged(
            f"{where} can't be used: {error.message}",
            subject=where,
            place=error.place,
            next_step=advice("Mend that file."),
        ) from error
    # Types and digests of needs can't be computed from the forms; who uses what can.
    known = {need.key: need for need in contents.needs}
    needs = tuple(
        replace(need, type=known[need.key].type, seen=known[need.key].seen) if need.key in known else need
        for need in needs_of(contents.items)
    )
    contents = replace(contents, needs=needs)
    return replace(contents, package_digest=package_digest_of(contents), is_edited=True)


def _renewed(row: Mapping[str, Any], files: Mapping[str, Raw], member: str, where: str) -> dict[str, Any]:
    form = _parsed(files, f"data/items/{member}", where)
    try:
        states = States.from_json(row["states"])
        item = Item(row["key"], int(row["schema"]), form, states, None, row["source"]["id"], row["source"]["link"])
        item = replace(item, unpublished=str(row["source"].get("unpublished", "")))
    except (KeyError, TypeError, ValueError) as error:
        raise _damaged(where, PACKING_LIST, f"the row of {row['key']} lacks {error}") from error
    try:
        return packing_row(item)
    except NotCanonical as error:
        raise _damaged(where, f"data/items/{member}", error.message.rstrip(".")) from error


def _parsed(files: Mapping[str, Raw], name: str, where: str) -> Any:
    if name not in files:
        raise _damaged(where, name, "it is listed but not there")
    try:
        return parse_json(whole(files[name]))
    except JsonFault as error:
        raise _damaged(where, name, str(error)) from error


def _damaged(where: str, name: str, reason: str) -> PackageDamaged:
    return PackageDamaged(
        f"{where} can't be used: {name}: {reason}.", subject=where, place=name, next_step=advice("Mend that file.")
    )


def _names(folder: Path, prefix: str) -> list[str]:
    return [
        prefix + Path(root).joinpath(name).relative_to(folder).as_posix()
        for root, folders, names in sorted(os.walk(folder))
        # A link to a folder is listed among the folders and not walked: named here, so that it is refused.
        for name in sorted([*names, *(one for one in folders if (Path(root) / one).is_symlink())])
    ]


def _drop_empty(folder: Path) -> None:
    for root, _, _ in sorted(os.walk(folder), reverse=True):
        if not any(Path(root).iterdir()):
            shutil.rmtree(root)
