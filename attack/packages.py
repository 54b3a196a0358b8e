"""Hostile packages: archives, manifests, packing lists, items, sheets, rows."""

from __future__ import annotations

import contextlib
import hashlib
import json
import struct
import zipfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.model import Contents, Item, Need, States
from amphora.files.archive import LOCAL_HEADER
from amphora.files.package import read_package, write_package
from attack import Case

ROOT = "olive-1.2.0/"
LISTING = ROOT + "data/packing-list.json"
ITEM = ROOT + "data/items/flow/mill/ticket.json"
ROWS = ROOT + "data/records/table/log.jsonl"
SHEET = ROOT + "data/kinds/flow.toml"
FORM = {"uses": "amphora:connection:mill-db", "text": "see ${amphora:table:log}", "code": "amphora:secret:c"}
Members = dict[str, bytes]
Edit = Callable[[Members], Members]


def honest(folder: Path) -> Members:
    """The members of a package with which nothing is wrong."""
    items = {
        "flow:mill/ticket": Item(
            "flow:mill/ticket", 1, FORM, States("Ticket", "mill", True, True), {"x": 1}, "f1", "https://d.example/f1"
        ),
        "table:log": Item("table:log", 1, {"columns": []}, States("Log"), None, "t1", ""),
    }
    needs = (Need("connection:mill-db", ("flow:mill/ticket",), "database"), Need("secret:c", ("flow:mill/ticket",)))
    sheets = {"flow": 'kind = "flow"\n[fields]\nsecret = ["$.code"]\n', "table": 'kind = "table"\n'}
    records = {"table:log": b'{"a":1}\n{"a":2}\n'}
    contents = Contents("olive", "1.2.0", "dev", "uid-1", items, needs, "note", sheets, {}, records)
    path = folder / "olive-1.2.0.amphora"
    write_package(contents, path)
    assert read_package(path).digest() == contents.digest()
    with zipfile.ZipFile(path) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def mended(members: Members) -> Members:
    """The members with manifests that fit."""
    payload = {name: raw for name, raw in members.items() if name.startswith(ROOT + "data/")}
    members = {**members, ROOT + "manifest-sha256.txt": _manifest(payload)}
    info = members[ROOT + "bag-info.txt"].decode("latin-1").partition("Payload-Oxum")[0]
    members[ROOT + "bag-info.txt"] = f"{info}Payload-Oxum: {sum(map(len, payload.values()))}.{len(payload)}\n".encode(
        "latin-1"
    )
    tags = {name: raw for name, raw in members.items() if name not in payload and "tagmanifest" not in name}
    return {**members, ROOT + "tagmanifest-sha256.txt": _manifest(tags)}


def _manifest(files: Members) -> bytes:
    return "".join(
        f"{hashlib.sha256(raw).hexdigest()}  {name[len(ROOT) :]}\n" for name, raw in sorted(files.items())
    ).encode()


def zipped(path: Path, members: Members) -> Path:
    """An archive of these members."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, raw in members.items():
            archive.writestr(name, raw)
    return path


def is_refused(path: Path) -> str:
    """Empty where a package is refused as damaged, with words and without touching anything."""
    try:
        read_package(path)
    except PackageDamaged as error:
        return "" if error.message else "refused without a reason"
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    return "it was read"


def edited(edit: Edit, folder: Path, refresh: bool = True) -> str:
    members = edit(honest(folder))
    return is_refused(zipped(folder / "hostile.amphora", mended(members) if refresh else members))


def raw_archive(make: Callable[[Path, Members], None], folder: Path) -> str:
    path = folder / "hostile.amphora"
    make(path, honest(folder))
    return is_refused(path)


def cases() -> Iterator[Case]:
    """All of them."""
    for name, edit in _names().items():
        yield Case("archives", name, partial(edited, edit, refresh=False))
    for name, make in _archives().items():
        yield Case("archives", name, partial(raw_archive, make))
    for name, edit in _listings():
        yield Case("packing lists", name, partial(edited, edit))
    for name, edit in _contents().items():
        yield Case("items and rows", name, partial(edited, edit))
    for name, text in _sheets().items():
        yield Case("kind sheets", name, partial(edited, partial(_with, SHEET, text)))
    for name, edit in _manifests().items():
        yield Case("manifests", name, partial(edited, edit, refresh=False))


def _with(name: str, raw: bytes, members: Members) -> Members:
    return {**members, name: raw}


def _names() -> dict[str, Edit]:
    bad = {
        "out by dots": ROOT + "../../evil",
        "absolute": "/etc/evil",
        "a drive": ROOT + "C:evil",
        "backslashes": ROOT + "data\\..\\..\\evil",
        "another root": "other/x",
        "a dot": ROOT + "./x",
        "an empty step": ROOT + "data//x",
        "a control": ROOT + "data/a\x1b[2Jb",
        "a line break": ROOT + "data/a\nb",
        "turned round": ROOT + "data/a\u202egnp.json",
        "an end of line of Unicode": ROOT + "data/a\u2028b",
        "a twin in case": ITEM.replace("ticket", "TICKET"),
        "a twin in a folder's case": ITEM.replace("mill", "MILL"),
        "a file that is a folder": ITEM + "/x",
        "a folder that is a file": ROOT + "data/items/flow",
    }
    found: dict[str, Edit] = {name: partial(_with, one, b"x") for name, one in bad.items()}
    found["twins in Unicode"] = lambda m: {**m, ROOT + "data/\u00e9": b"", ROOT + "data/e\u0301": b""}
    found["twins in folding"] = lambda m: {**m, ROOT + "data/stra\u00dfe": b"", ROOT + "data/STRASSE": b""}
    return found


def _archives() -> dict[str, Callable[[Path, Members], None]]:
    def entry(name: str, mode: int = 0, method: int = zipfile.ZIP_STORED) -> Callable[[Path, Members], None]:
        def make(path: Path, members: Members) -> None:
            zipped(path, members)
            with zipfile.ZipFile(path, "a") as archive:
                info = zipfile.ZipInfo(name)
                info.external_attr, info.compress_type = mode << 16, method
                archive.writestr(info, b"x")

        return make

    def flipped(position: float) -> Callable[[Path, Members], None]:
        def make(path: Path, members: Members) -> None:
            raw = bytearray(zipped(path, members).read_bytes())
            raw[int(position * len(raw))] ^= 0x55
            path.write_bytes(raw)
            # Some bits mean nothing (a time that nobody reads): then it is the same package still.
            with contextlib.suppress(PackageDamaged):
                if read_package(path).digest() == read_package(path.with_name("olive-1.2.0.amphora")).digest():
                    path.write_bytes(b"")

        return make

    def cut(part: float) -> Callable[[Path, Members], None]:
        def make(path: Path, members: Members) -> None:
            raw = zipped(path, members).read_bytes()
            path.write_bytes(raw[: int(part * len(raw))])

        return make

    def bits(offset: int, value: int) -> Callable[[Path, Members], None]:
        """Sets a field of every record of the index."""

        def make(path: Path, members: Members) -> None:
            raw = bytearray(zipped(path, members).read_bytes())
            at = -1
            while (at := raw.find(b"PK\x01\x02", at + 1)) >= 0:
                raw[at + offset : at + offset + 2] = struct.pack("<H", value)
            path.write_bytes(raw)

        return make

    def nameless(path: Path, members: Members) -> None:
        """One member, and nothing where its name should be; found by feeding bytes at random."""
        local = struct.pack("<4sHHHHHIIIHH", b"PK\x03\x04", 20, 0, 0, 0, 0x21, 0, 0, 0, 0, 0)
        record = struct.pack(
            "<4sHHHHHHIIIHHHHHII", b"PK\x01\x02", 20, 20, 0, 0, 0, 0x21, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0
        )
        end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, 1, 1, len(record), len(local), 0)
        path.write_bytes(local + record + end)

    def unreadable(path: Path, members: Members) -> None:
        """A name in the header before some rows that is no text; found in the same way."""
        raw = bytearray(zipped(path, members).read_bytes())
        at = raw.find(ROWS.encode())
        raw[at] = 0xFF
        raw[at - LOCAL_HEADER + 6 : at - LOCAL_HEADER + 8] = struct.pack("<H", 0x800)
        path.write_bytes(raw)

    def olives(path: Path, members: Members) -> None:
        path.write_bytes(b"olive oil" * 50)

    def crowd(path: Path, members: Members) -> None:
        """A million members in an index, all of one and the same empty file."""
        local = struct.pack("<4sHHHHHIIIHH", b"PK\x03\x04", 20, 0, 0, 0, 0x21, 0, 0, 0, 1, 0) + b"x"
        record = (
            struct.pack("<4sHHHHHHIIIHHHHHII", b"PK\x01\x02", 20, 20, 0, 0, 0, 0x21, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0)
            + b"x"
        )
        index = record * 1_000_000
        end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, len(index), len(local), 0)
        path.write_bytes(local + index + end)

    def bomb(name: str, piece: bytes, count: int) -> Callable[[Path, Members], None]:
        def make(path: Path, members: Members) -> None:
            zipped(path, members)
            with (
                zipfile.ZipFile(path, "a", zipfile.ZIP_DEFLATED, compresslevel=9) as archive,
                archive.open(name, "w") as out,
            ):
                for _ in range(count):
                    out.write(piece)

        return make

    found = {f"cut at {part}": cut(part) for part in (0.0, 0.001, 0.1, 0.3, 0.5, 0.7, 0.9, 0.99)}
    found |= {f"a bit flipped at {part}": flipped(part) for part in (0.05, 0.2, 0.35, 0.5, 0.65, 0.8, 0.9)}
    found |= {
        "a link": entry(ROOT + "data/link", 0o120777),
        "a device": entry(ROOT + "data/device", 0o060777),
        "a queue": entry(ROOT + "data/queue", 0o010777),
        "a socket": entry(ROOT + "data/socket", 0o140777),
        "bzip2": entry(ROOT + "data/b", 0, zipfile.ZIP_BZIP2),
        "lzma": entry(ROOT + "data/l", 0, zipfile.ZIP_LZMA),
        "encrypted": bits(8, 1),
        "another method": bits(10, 9),
        "no archive": olives,
        "a member without a name": nameless,
        "a name that is no text": unreadable,
        "a million members": crowd,
        "a bomb of zeros": bomb(ROOT + "data/files/b", b"\0" * (1 << 20), 200),
        "a bomb of brackets": bomb(ROOT + "data/items/flow/b.json", b"[[],[],[],[]," * (1 << 16), 100),
        "a bomb in the packing list": bomb(ROOT + "data/items/flow/c.json", b"[" * (1 << 20), 70),
    }
    return found


WRONG: tuple[Any, ...] = (None, 5, "x\x1b", [], {}, True, [1], {"a": 1})


def _listings() -> Iterator[tuple[str, Edit]]:
    """Every member of the packing list missing, and of each other type."""
    paths: list[tuple[Any, ...]] = [
        ("name",),
        ("version",),
        ("source",),
        ("note",),
        ("contents",),
        ("needs",),
        ("amphora",),
    ]
    paths += [("amphora", "format"), ("source", "name"), ("source", "uid"), ("contents_digest",)]
    paths += [("contents", 0, n) for n in ("key", "kind", "schema", "digest", "states", "source", "tokens")]
    paths += [("contents", 0, "states", n) for n in ("title", "folder", "on", "published")]
    paths += [("contents", 0, "source", n) for n in ("id", "link")]
    paths += [("contents", 0, "tokens", n) for n in ("whole", "text")]
    paths += [("needs", 0, n) for n in ("key", "type", "used_by")]
    for path in paths:
        words = ".".join(map(str, path))
        # States that a kind may lack, and the word for nothing, are allowed.
        if path[-1] not in ("folder", "on", "published"):
            yield f"{words} missing", partial(_changed, path, ...)
        for wrong in WRONG:
            if not _is_fit(path, wrong):
                yield f"{words} = {json.dumps(wrong)}", partial(_changed, path, wrong)
    for name in ("-rf", ".hidden", "a/b", "a\nb", "x\u202ey", "", "n" * 200, "..", "a b", "a;b"):
        yield f"called {name!r}", partial(_changed, ("name",), name)
    for version in ("1", "1.2", "v1.2.0", "1.2.0 ", "01.2.0", "1.2.0\n", "../1.2.0", "latest"):
        yield f"version {version!r}", partial(_changed, ("version",), version)
    for form in ("2.0", "0.9", "x", "1", "1.1.1", "-1.0"):
        yield f"format {form}", partial(_changed, ("amphora", "format"), form)
    yield "needs emptied", partial(_changed, ("needs",), [])
    yield "a need invented", partial(_changed, ("needs", 0, "key"), "connection:other")
    yield "another user of a need", partial(_changed, ("needs", 0, "used_by"), ["table:log"])
    yield "an item twice", partial(_doubled, "contents")
    for key in ("flow:../x", "flow:a/../b", "Flow:a", "flow:", "flow:a b", "flow:.git/config", "flow:a\nb", "flow"):
        yield f"key {key!r}", partial(_changed, ("contents", 0, "key"), key)


def _is_fit(path: tuple[Any, ...], wrong: Any) -> bool:
    """Whether a value is of the type that stands there."""
    if path[-1] in ("on", "published"):
        return wrong is None or wrong is True
    if path[-1] == "folder" and wrong is None:
        return True
    kinds: dict[str, type] = {
        "schema": int,
        "on": bool,
        "published": bool,
        "contents": list,
        "needs": list,
        "whole": list,
    }
    kinds |= {"text": list, "used_by": list, "states": dict, "source": dict, "tokens": dict, "amphora": dict}
    kind = kinds.get(path[-1] if isinstance(path[-1], str) else "", str)
    is_type = isinstance(wrong, kind) and not (kind is int and isinstance(wrong, bool))
    # A text of another content is caught elsewhere, or is one that may stand there.
    return is_type and kind is str and path[-1] in ("note", "title", "folder", "id", "link", "type")


def _changed(path: tuple[Any, ...], value: Any, members: Members) -> Members:
    listing = json.loads(members[LISTING])
    holder = listing
    for step in path[:-1]:
        holder = holder[step]
    if value is ...:
        del holder[path[-1]]
    else:
        holder[path[-1]] = value
    return {**members, LISTING: json.dumps(listing).encode()}


def _doubled(name: str, members: Members) -> Members:
    listing = json.loads(members[LISTING])
    listing[name].append(listing[name][0])
    return {**members, LISTING: json.dumps(listing).encode()}


def _as_item(form: Any, members: Members) -> Members:
    """The first item with another form, and a packing list that says so."""
    from amphora.core.values.canon import digest
    from amphora.core.values.scan import token_places

    listing = json.loads(members[LISTING])
    row = listing["contents"][0]
    places = token_places(form)
    row["digest"] = digest(form)
    row["tokens"] = {
        "whole": sorted({p.pointer for p in places if not p.in_text}),
        "text": sorted({p.pointer for p in places if p.in_text}),
    }
    raw = json.dumps(form).encode()
    return {**members, LISTING: json.dumps(listing).encode(), ITEM: raw}


def _contents() -> dict[str, Edit]:
    many = b"[" + b"[]," * 3_000_000 + b"[]]"
    return {
        "an item changed": lambda m: {**m, ITEM: b'{"n":7}'},
        "an item gone": lambda m: {n: r for n, r in m.items() if n != ITEM},
        "an item more": lambda m: {**m, ROOT + "data/items/flow/x.json": b"{}"},
        "an item that is no JSON": lambda m: {**m, ITEM: b"olive"},
        "doubled names": lambda m: {**m, ITEM: b'{"a":1,"a":2}'},
        "not a number": lambda m: {**m, ITEM: b'{"a":NaN}'},
        "a huge number": lambda m: {**m, ITEM: b'{"a":1' + b"0" * 500 + b"}"},
        "an endless number": lambda m: {**m, ITEM: b'{"a":' + b"9" * 100_000 + b"}"},
        "not UTF-8": lambda m: {**m, ITEM: b'{"a":"\xff"}'},
        "half a character": lambda m: {**m, ITEM: b'{"a":"\\ud800"}'},
        "nested for ever": lambda m: {**m, ITEM: b'{"a":' * 100_000},
        "nested deep": lambda m: {**m, ITEM: b"[" * 5_000 + b"]" * 5_000},
        "three million lists": lambda m: {**m, ITEM: many},
        "a packing list of lists": lambda m: {**m, LISTING: many},
        "a packing list that is a list": lambda m: {**m, LISTING: b"[]"},
        "a packing list that is null": lambda m: {**m, LISTING: b"null"},
        "no packing list": lambda m: {n: r for n, r in m.items() if n != LISTING},
        "layout of nothing": lambda m: {**m, ROOT + "data/layout/flow/x.json": b"{}"},
        "layout that is no JSON": lambda m: {**m, ROOT + "data/layout/flow/mill/ticket.json": b"{"},
        "a base of nothing": lambda m: {**m, ROOT + "data/base/flow/x.json": b"{}"},
        "a base without states": lambda m: {**m, ROOT + "data/base/flow/mill/ticket.json": b'{"form":{}}'},
        "a base with wrong states": lambda m: {**m, ROOT + "data/base/flow/mill/ticket.json": b'{"form":{},"states":{"title":5}}'},
        "a base that is a list": lambda m: {**m, ROOT + "data/base/flow/mill/ticket.json": b"[]"},
        "an attachment that nobody names": lambda m: {**m, ROOT + "data/files/" + "0" * 64: b"x"},
        "an attachment that is missing": partial(_as_item, {**FORM, "icon": "amphora:file:" + "1" * 64}),
        "rows of nothing": lambda m: {**m, ROOT + "data/records/table/x.jsonl": b"{}\n"},
        "a row that is no JSON": lambda m: {**m, ROWS: b'{"a":1}\n{"a":\n'},
        "a row that is a list": lambda m: {**m, ROWS: b'{"a":1}\n[]\n'},
        "a row that is a number": lambda m: {**m, ROWS: b"5\n"},
        "a row with doubled names": lambda m: {**m, ROWS: b'{"a":1,"a":2}\n'},
        "a row nested for ever": lambda m: {**m, ROWS: b"[" * 200_000 + b"\n"},
        "rows that are not UTF-8": lambda m: {**m, ROWS: b'{"a":"\xfe"}\n'},
        "a secret's token in a note": partial(_as_item, {**FORM, "note": "amphora:secret:c"}),
        "a secret's token inside a text": partial(_as_item, {**FORM, "text": "it is ${amphora:secret:c}"}),
        "a secret's token inside a secret": partial(_as_item, {**FORM, "code": "x${amphora:secret:c}"}),
        "a secret in clear at its place": partial(_as_item, {**FORM, "code": "heron7x"}),
        "a number at a secret's place": partial(_as_item, {**FORM, "code": 4711}),
        "an object at a secret's place": partial(_as_item, {**FORM, "code": {"value": "heron7x"}}),
    }  # fmt: skip


def _sheets() -> dict[str, bytes]:
    texts = {
        "no TOML": "kind = ",
        "no kind": 'title = "x"',
        "another kind": 'kind = "table"',
        "a number for a kind": "kind = 5",
        "an unknown key": 'kind = "flow"\ncolour = "red"',
        "an unknown role": 'kind = "flow"\n[fields]\nsecrets = ["$.a"]',
        "fields that are a list": 'kind = "flow"\nfields = []',
        "a path that is none": 'kind = "flow"\n[fields]\nsecret = ["a b c["]',
        "a path that is a number": 'kind = "flow"\n[fields]\nsecret = [5]',
        "named that is a list": 'kind = "flow"\n[fields]\nnamed = ["$.a"]',
        "named to a number": 'kind = "flow"\n[fields]\nnamed = {"$.a" = 5}',
        "settings of nothing": 'kind = "flow"\n[fields]\nsettings = {"$.a" = []}',
        "refers that is text": 'kind = "flow"\nrefers = "x"',
        "refers without a path": 'kind = "flow"\n[[refers]]\nto = ["table"]',
        "refers to a number": 'kind = "flow"\n[[refers]]\nat = "$.a"\nto = 5',
        "refers to numbers": 'kind = "flow"\n[[refers]]\nat = "$.a"\nto = [5]',
        "states that are text": 'kind = "flow"\nstates = "on"',
        "a switch that is a number": 'kind = "flow"\n[states]\nswitch = 5',
        "a schema that is text": 'kind = "flow"\nschema = "one"',
        "access of numbers": 'kind = "flow"\naccess = [5]',
        "conversion that is text": 'kind = "flow"\nconversion = "x"',
        "doubled": 'kind = "flow"\nkind = "flow"',
    }
    found = {name: text.encode() for name, text in texts.items()}
    return {**found, "not UTF-8": b'kind = "\xff"', "nothing": b"", "nested for ever": b"a = " + b"[" * 50_000}


def _manifests() -> dict[str, Edit]:
    def tags(change: Callable[[bytes], bytes], name: str = "manifest-sha256.txt") -> Edit:
        def edit(members: Members) -> Members:
            members = mended(members)
            members[ROOT + name] = change(members[ROOT + name])
            rest = {n: r for n, r in members.items() if not n.startswith(ROOT + "data/") and "tagmanifest" not in n}
            return {**members, ROOT + "tagmanifest-sha256.txt": _manifest(rest)} if name[0] != "t" else members

        return edit

    return {
        "no bag": lambda m: {n: r for n, r in m.items() if not n.endswith("bagit.txt")},
        "no manifest": lambda m: {n: r for n, r in m.items() if not n.endswith("/manifest-sha256.txt")},
        "no tag manifest": lambda m: {n: r for n, r in m.items() if "tagmanifest" not in n},
        "ends of lines of another system": tags(lambda raw: raw.replace(b"\n", b"\r\n")),
        "ends of lines of an old system": tags(lambda raw: raw.replace(b"\n", b"\r")),
        "ends of lines of Unicode": tags(lambda raw: raw.replace(b"\n", "\u2028".encode())),
        "a form feed between lines": tags(lambda raw: raw.replace(b"\n", b"\x0c\n")),
        "no end": tags(lambda raw: raw[:-1]),
        "one space": tags(lambda raw: raw.replace(b"  ", b" ")),
        "a line twice": tags(lambda raw: raw + raw.splitlines(keepends=True)[0]),
        "a short digest": tags(lambda raw: raw[1:]),
        "not UTF-8": tags(lambda raw: b"\xff" + raw),
        "a file more than listed": tags(lambda raw: b"".join(raw.splitlines(keepends=True)[1:])),
        "another count": tags(lambda raw: raw.replace(b"Payload-Oxum: ", b"Payload-Oxum: 1"), "bag-info.txt"),
        "no count": tags(lambda raw: raw.partition(b"Payload-Oxum")[0], "bag-info.txt"),
        "another version of the standard": tags(lambda raw: raw.replace(b"1.0", b"0.97"), "bagit.txt"),
        "a tag file that nobody listed": lambda m: {**mended(m), ROOT + "more.txt": b"x"},
    }
