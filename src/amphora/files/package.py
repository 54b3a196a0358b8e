"""Packages: `NAME-VERSION.amphora` (design, section 4)."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from amphora.core.form.attachments import LEFT_OUT
from amphora.core.form.copies import taken_apart
from amphora.core.form.declared import secret_faults
from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.needs.needs import needs_of
from amphora.core.values.canon import NotCanonical
from amphora.core.values.errors import PackageDamaged, SheetFault, UsageFault
from amphora.core.values.keys import Key, is_key, kind_of
from amphora.core.values.model import Contents, Item, Json, Need, States
from amphora.core.values.near import near
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.pace import uncollected
from amphora.core.values.raw import Raw, sha256_of, whole
from amphora.core.values.scan import confirmed_places
from amphora.core.values.strict_json import JsonFault, parse_json, parse_laid_out, pretty_bytes
from amphora.core.values.tokens import parse_token
from amphora.core.values.versions import is_version, version_order
from amphora.files.archive import read_archive, write_archive
from amphora.files.bag import TAG_MANIFEST, tag_files, verify_bag
from amphora.files.bounds import ROW_VALUES, Bounds
from amphora.files.members import item_members
from amphora.files.names import SUFFIX
from amphora.files.packing_list import PACKING_LIST, check_listing, check_states
from amphora.files.rows import rows_of

FORMAT = (1, 1)
SURELY_SMALL_BYTES = 1 << 20
FILE_TOKEN = "amphora:file:"


def package_files(contents: Contents) -> dict[str, Raw]:
    """Every file of the bag, tag files included."""
    members = item_members(contents.items)
    payload: dict[str, Raw] = {PACKING_LIST: pretty_bytes(_packing_list(contents))}
    for key, item in contents.items.items():
        payload[f"data/items/{members[key]}"] = item.form_bytes
        if (layout := item.layout_bytes) is not None:
            payload[f"data/layout/{members[key]}"] = layout
    for key, (form, states) in contents.bases.items():
        payload[f"data/base/{members[key]}"] = pretty_bytes({"form": form, "states": states.to_json()})
    payload |= {f"data/files/{name}": content for name, content in contents.files.items()}
    # `.jsonl`: the same name as the item's with one letter more.
    payload |= {f"data/records/{members[key]}l": rows for key, rows in contents.records.items()}
    for kind, source in contents.sheets.items():
        payload[f"data/kinds/{kind}.toml"] = source.encode()
    return payload | tag_files(f"{contents.name}-{contents.version}", payload)


def package_digest_of(contents: Contents) -> str:
    """The package digest: SHA-256 of the tag manifest."""
    return sha256_of(package_files(contents)[TAG_MANIFEST])


def write_package(contents: Contents, path: Path) -> str:
    """Writes a package file and returns its package digest."""
    with uncollected():
        files = package_files(contents)
    # Outside of it: the archive streams, and what piles up while it does may be collected.
    write_archive(path, f"{contents.name}-{contents.version}", files)
    return sha256_of(files[TAG_MANIFEST])


def is_package(path: Path, digest: str) -> bool:
    """Whether a file is, by its tag manifest alone, the package of a digest; cheap, and no proof that it is sound."""
    try:
        with zipfile.ZipFile(path) as archive:
            name = next(name for name in archive.namelist() if name.endswith(f"/{TAG_MANIFEST}"))
            return sha256_of(archive.read(name)) == digest
    except (OSError, zipfile.BadZipFile, zlib.error, StopIteration, NotImplementedError, RuntimeError):
        return False


def needs_packed(path: Path) -> list[Key]:
    """The keys of what a package needs, by its packing list alone: quick, and no proof that the package is sound.
    None of one that can't be read: that is told where it is used."""
    try:
        with zipfile.ZipFile(path) as archive:
            entry = next(one for one in archive.infolist() if one.filename.endswith(f"/{PACKING_LIST}"))
            if entry.file_size > Bounds.here().json_bytes:
                return []
            listing = parse_json(archive.read(entry))
            return [str(need["key"]) for need in listing["needs"]]
    except (OSError, zipfile.BadZipFile, zlib.error, StopIteration, NotImplementedError, RuntimeError):
        return []
    except (JsonFault, KeyError, TypeError):
        return []


def read_package(path: Path) -> Contents:
    """Reads and verifies a package file; PackageDamaged with the reason where it can't be trusted."""
    with uncollected():
        return _read_package(path)


def _read_package(path: Path) -> Contents:
    folder, files = read_archive(path)
    try:
        verify_bag(files)
        contents = contents_of(files)
        # Unpacked by hand, the folder is all that tells which package it was.
        if folder != f"{contents.name}-{contents.version}":
            raise PackageDamaged("its folder is not named after it.", place=folder)
        return contents
    except PackageDamaged as error:
        raise PackageDamaged(
            f"{path.name} is refused: {error.message}",
            subject=str(path),
            place=error.place,
            next_step=advice("Ask for the file again, or export it once more; nothing was written."),
        ) from error


def contents_of(files: Mapping[str, Raw], is_edited: bool = False) -> Contents:
    """What verified files hold; PackageDamaged where packing list and items don't agree. In an edited
    folder the contents digest of the list is not looked at."""
    listing, _ = _parsed(files, PACKING_LIST)
    try:
        # The format before anything else: another major one may mean something else by every word.
        _, minor = _format_of(listing)
        check_listing(listing, is_edited)
        members = item_members(row["key"] for row in listing["contents"])
        contents = replace(_contents(listing, files, members), format_minor=minor)
    except NotCanonical as error:
        raise PackageDamaged(f"It holds what can't be carried exactly: {error.message}", place=error.place) from error
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise PackageDamaged(f"Its packing list is incomplete: {error!r}.", place=PACKING_LIST) from error
    _check_members(set(members.values()), files)
    sheets = _check_sheets(contents)
    _check_secrets(contents, sheets)
    for key, rows in contents.records.items():
        _check_rows(key, rows)
    if not is_edited:
        _check_needs(contents)
    if not is_edited and contents.digest() != listing["contents_digest"]:
        raise PackageDamaged("Its contents digest differs from the packing list's.", place=PACKING_LIST)
    return contents


def _format_of(listing: Any) -> tuple[int, int]:
    """Major and minor number of a packing list's format; PackageDamaged for one that this Amphora can't read."""
    try:
        major, minor = (int(part) for part in listing["amphora"]["format"].split("."))
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise PackageDamaged("Its packing list doesn't say which format it has.", place=PACKING_LIST) from error
    # A higher minor number only adds what may be ignored; a higher major one changes what is there.
    if major != FORMAT[0]:
        raise PackageDamaged(f"It has format {major}.{minor}; this Amphora reads {FORMAT[0]}.x.", place=PACKING_LIST)
    return major, minor


def _check_needs(contents: Contents) -> None:
    """The needs that a package lists are those that its items have: one that is left out would not be asked for, an
    invented one would be asked for nothing."""
    listed = {need.key: set(need.used_by) for need in contents.needs}
    real = {need.key: set(need.used_by) for need in needs_of(contents.items)}
    for key in sorted(listed.keys() | real.keys()):
        if listed.get(key) != real.get(key):
            raise PackageDamaged(f"It lists other needs than its items have: {key}.", place=PACKING_LIST)


def _check_rows(key: Key, rows: Raw) -> None:
    """Rows are read once before anything is written: the last one of a million may be broken."""
    for number, row in enumerate(rows_of(rows), 1):
        if not isinstance(row, dict):
            raise PackageDamaged(f"Row {number} of {key} is no object.", place="data/records")


def find_package(name: str, folder: Path) -> Path:
    """The package file that a name on the command line means: a file, `NAME-VERSION`, or the newest `NAME`."""
    given = Path(name)
    if given.suffix == SUFFIX or given.is_file():
        return given
    base, copy = taken_apart(name)
    if copy:
        raise UsageFault(
            f"{name} is a copy of {base}, and has no file of its own.",
            subject=name,
            next_step=advice(f"Name {base} instead."),
        )
    exact = folder / f"{name}{SUFFIX}"
    if exact.is_file():
        return exact
    # Not by a pattern made of the name: that may be a path, or hold what a pattern is made of.
    packages = sorted(folder.glob(f"*{SUFFIX}"))
    mine = {p.name[len(name) + 1 : -len(SUFFIX)]: p for p in packages if p.name.startswith(f"{name}-")}
    versions = {version: path for version, path in mine.items() if is_version(version)}
    if versions:
        return versions[max(versions, key=version_order)]
    there = [path.stem for path in packages]
    # By their names too: whoever leaves out the version means the newest.
    meant = {stem: stem for stem in there} | {stem.rpartition("-")[0]: stem for stem in there}
    alike = [meant[one] for one in near(name, meant)]
    new = to_type("export", blank("ENVIRONMENT"), blank("ITEM…"), "--as", blank("NAME"))
    raise UsageFault(
        f"There is no package {name!r} in {folder}.",
        subject=name,
        details=[f"near: {stem}" for stem in alike] or [f"there: {stem}" for stem in there[-5:]],
        next_step=to_type("peek", alike[0]) if alike else new,
    )


def _packing_list(contents: Contents) -> dict[str, Any]:
    # Left out where there are none: then a package is the same to the byte as before there were any.
    beside: dict[str, Any] = {"notes": dict(sorted(contents.notes.items()))} if contents.notes else {}
    return _listed(contents) | beside | ({"afterwards": list(contents.afterwards)} if contents.afterwards else {})


def _listed(contents: Contents) -> dict[str, Any]:
    return {
        "amphora": {"format": f"{FORMAT[0]}.{FORMAT[1]}"},
        "name": contents.name,
        "version": contents.version,
        "source": {"name": contents.source, "uid": contents.source_uid, "release": contents.source_release},
        "note": contents.note,
        "custody": "package",
        "contents": [packing_row(item) for _, item in sorted(contents.items.items())],
        "needs": [
            {"key": need.key, "type": need.type, "seen": need.seen, "used_by": list(need.used_by)}
            for need in sorted(contents.needs, key=lambda need: need.key)
        ],
        "contents_digest": contents.digest(),
    }


def packing_row(item: Item) -> dict[str, Any]:
    """An item's line in the packing list."""
    return {
        "key": item.key,
        "kind": item.kind,
        "schema": item.schema,
        "digest": item.digest,
        "states": item.states.to_json(),
        "source": {"id": item.native_id, "link": item.link, "unpublished": item.unpublished},
        "tokens": _token_lists(item),
    }


def _token_lists(item: Item) -> dict[str, list[str]]:
    whole: set[str] = set()
    text: set[str] = set()
    for place in item.places:
        (text if place.in_text else whole).add(place.pointer)
    return {"whole": sorted(whole), "text": sorted(text)}


def _parsed(files: Mapping[str, Raw], name: str) -> tuple[Any, bytes | None]:
    if name not in files:
        raise PackageDamaged(f"It has no {name}.", place=name)
    raw = whole(files[name])
    # Counted by the signs between values, and only where there can be many: what is parsed takes sixty bytes a value.
    if len(raw) > SURELY_SMALL_BYTES:
        bounds = Bounds.here()
        most = bounds.item_values + (ROW_VALUES * len(files) if name == PACKING_LIST else 0)
        if sum(raw.count(sign) for sign in (b",", b"[", b"{")) > most:
            raise bounds.refuse(f"{name} holds more values than are read", "item_values", name)
    try:
        return parse_laid_out(raw)
    except JsonFault as error:
        raise PackageDamaged(f"{name} is not strict JSON: {error}.", place=name) from error


def _base(files: Mapping[str, Raw], name: str) -> tuple[Json, States]:
    value, _ = _parsed(files, name)
    check_states(value["states"], name)
    return value["form"], States.from_json(value["states"])


def _item_of(row: Mapping[str, Any], files: Mapping[str, Raw], name: str, layout: str) -> Item:
    """An item as its files say, folded: its digest and places are worked out while it is unfolded."""
    form, form_bytes = _parsed(files, name)
    beside, layout_bytes = _parsed(files, layout) if layout in files else (None, None)
    states, source = States.from_json(row["states"]), row["source"]
    item = Item(row["key"], int(row["schema"]), form, states, beside, str(source["id"]), str(source["link"]))
    item = replace(item, unpublished=str(source.get("unpublished", "")))
    # The packing list says where tokens stand; that is confirmed on the bytes, which is faster than looking for them,
    # and refused where it is not so.
    listed = {*row["tokens"]["whole"], *row["tokens"]["text"]}
    places = confirmed_places(form, form_bytes, sorted(listed)) if form_bytes else None
    return item.folded(form_bytes, layout_bytes, places)


def _contents(listing: Mapping[str, Any], files: Mapping[str, Raw], members: Mapping[Key, str]) -> Contents:
    rows = {row["key"]: row for row in listing["contents"]}
    # A key that is given twice would silently win over the first one in a table.
    bad = [key for key in rows if not is_key(key) or rows[key]["kind"] != kind_of(key)]
    if bad or len(rows) != len(listing["contents"]):
        raise PackageDamaged("It lists an item twice, or under no proper key.", place=", ".join(bad))
    items = {key: _item(row, files, members[key]) for key, row in sorted(rows.items())}
    return Contents(
        name=str(listing["name"]),
        version=str(listing["version"]),
        source=str(listing["source"]["name"]),
        source_uid=str(listing["source"]["uid"]),
        source_release=str(listing["source"].get("release", "")),
        items=items,
        needs=tuple(Need(n["key"], tuple(n["used_by"]), n["type"], n.get("seen", "")) for n in listing["needs"]),
        note=str(listing["note"]),
        notes=dict(listing.get("notes", {})),
        afterwards=tuple(listing.get("afterwards", ())),
        signature=whole(files.get("signature.json", b"")),
        files=_attachments(files, items),
        records={key: files[name] for key in items if (name := f"data/records/{members[key]}l") in files},
        bases={key: _base(files, name) for key in items if (name := f"data/base/{members[key]}") in files},
        sheets={name[11:-5]: _text(files, name) for name in sorted(files) if name.startswith("data/kinds/")},
        package_digest=sha256_of(files[TAG_MANIFEST]) if TAG_MANIFEST in files else "",
    )


def _text(files: Mapping[str, Raw], name: str) -> str:
    try:
        return whole(files[name]).decode()
    except UnicodeDecodeError as error:
        raise PackageDamaged(f"{name} is not UTF-8.", place=name) from error


def _item(row: Mapping[str, Any], files: Mapping[str, Raw], member: str) -> Item:
    item = _item_of(row, files, f"data/items/{member}", f"data/layout/{member}")
    if item.digest != row["digest"]:
        raise PackageDamaged(f"{item.key} is not what was packed: its digest differs.", place=f"data/items/{member}")
    if _token_lists(item) != row["tokens"]:
        raise PackageDamaged(
            f"{item.key} holds tokens at other places than the packing list says.", place=f"data/items/{member}"
        )
    return item


def _attachments(files: Mapping[str, Raw], items: Mapping[Key, Item]) -> dict[str, Raw]:
    """The attachments by their SHA-256; each one that a form names has to be there, and no other."""
    found = {name.removeprefix("data/files/"): raw for name, raw in files.items() if name.startswith("data/files/")}
    of_files = {place.token for item in items.values() for place in item.places if place.token.startswith(FILE_TOKEN)}
    named = {token.path for text in of_files - {LEFT_OUT} if (token := parse_token(text))}
    # The bag's manifest has been verified, which only says that nobody damaged it: the name promises the contents to
    # whoever packed it.
    wrong = [name for name, raw in found.items() if sha256_of(raw) != name]
    for name in sorted({*wrong, *(named ^ found.keys())}):
        raise PackageDamaged(
            f"The attachment {name} is missing, unused or not what its name says.", place="data/files"
        )
    return dict(sorted(found.items()))


def _check_secrets(contents: Contents, sheets: Mapping[str, KindSheet]) -> None:
    """A secret's token stands at declared places only, and nothing else stands there. Asked once more of the target's
    own sheets when it is imported: those in the package are the sender's word."""
    for key, item in contents.items.items():
        for pointer, words in secret_faults(item, sheets[item.kind]) if item.kind in sheets else ():
            raise PackageDamaged(f"{key} {words}.", place=pointer)


def _check_sheets(contents: Contents) -> dict[str, KindSheet]:
    sheets = {}
    for kind, source in contents.sheets.items():
        try:
            parsed = parse_sheet(source, kind)
        except SheetFault as error:
            raise PackageDamaged(
                f"Its kind sheet {kind} can't be used: {error.message}", place="data/kinds"
            ) from error
        if parsed.kind != kind:
            raise PackageDamaged(f"Its kind sheet {kind} is for {parsed.kind!r}.", place="data/kinds")
        sheets[kind] = parsed
    return sheets


def _check_members(members: set[str], files: Mapping[str, Raw]) -> None:
    for name in files:
        folder, _, rest = name.removeprefix("data/").partition("/")
        rest = rest.removesuffix("l") if folder == "records" else rest
        if name.startswith("data/") and folder in ("items", "layout", "records", "base") and rest not in members:
            raise PackageDamaged(f"{name} belongs to no item of the packing list.", place=name)
