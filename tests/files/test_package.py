"""The package file: independent verification, determinism, weird titles, hostile and damaged input."""

from __future__ import annotations

import hashlib
import io
import json
import os
import subprocess
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import bagit
import pytest
from attack.packages import LISTING, Edit, mended, zipped
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.keys import make_key
from amphora.core.values.model import Contents, Item, Need, States
from amphora.core.values.raw import PIECE_BYTES, whole
from amphora.core.values.versions import is_version, version_order
from amphora.files.package import find_package, read_package, write_package

TITLES = [
    "Weigh ticket",
    "a/b",
    "..",
    ".hidden",
    "Öl & Presse",
    "100 % pure",
    "x~2",
    "con",
    "a\\b",
    "Ticket",
    "ticket",
]
ICON = b"\x00\x01icon"
ICON_NAME = hashlib.sha256(ICON).hexdigest()


def contents(**changes: object) -> Contents:
    items = {}
    for number, title in enumerate(TITLES):
        key = make_key("flow", ["mill", title])
        form = {"n": number, "uses": "amphora:connection:mill-db", "script": "see ${amphora:flow:mill/x%7E2}"}
        layout = {"nodes": {"a": {"x": number}}} if number % 2 else None
        items[key] = Item(
            key, 1, form, States(title, "mill", True, True), layout, f"fl-{number}", "https://dev.example/"
        )
    items["app:icon"] = Item("app:icon", 1, {"icon": f"amphora:file:{ICON_NAME}#image%2Fpng"}, States("Icon"))
    needs = (Need("connection:mill-db", tuple(sorted(items))[1:], "database"),)
    made = Contents(
        "olive", "1.2.0", "grove-dev", "uid-1", items, needs, "a note", {"flow": 'kind = "flow"\n'}, {ICON_NAME: ICON}
    )
    return replace(made, **changes)  # type: ignore[arg-type]


@pytest.fixture
def package(tmp_path: Path) -> Path:
    path = tmp_path / "olive-1.2.0.amphora"
    write_package(contents(), path)
    return path


def unpacked(package: Path) -> Path:
    folder = package.parent / "unpacked"
    subprocess.run(["unzip", "-q", str(package), "-d", str(folder)], check=True) if _has_unzip() else zipfile.ZipFile(
        package
    ).extractall(folder)
    return folder / "olive-1.2.0"


def _has_unzip() -> bool:
    return any((Path(folder) / "unzip").exists() for folder in os.get_exec_path())


def test_an_independent_implementation_finds_it_valid(package: Path) -> None:
    bag = bagit.Bag(str(unpacked(package)))
    bag.validate()
    assert bag.version_info == (1, 0)
    assert bag.info["External-Identifier"] == "olive-1.2.0"


def test_sha256sum_verifies_it(package: Path) -> None:
    folder = unpacked(package)
    for manifest in ("manifest-sha256.txt", "tagmanifest-sha256.txt"):
        done = subprocess.run(["sha256sum", "-c", "--strict", manifest], cwd=folder, capture_output=True, text=True)
        assert done.returncode == 0, done.stdout + done.stderr


def test_it_reads_back_whole(package: Path) -> None:
    read = read_package(package)
    made = contents()
    assert dict(read.items) == dict(made.items)
    assert (read.needs, read.note, read.sheets) == (made.needs, made.note, made.sheets)
    assert {name: whole(raw) for name, raw in read.files.items()} == made.files
    assert read.digest() == made.digest()
    assert (
        read.package_digest == hashlib.sha256((unpacked(package) / "tagmanifest-sha256.txt").read_bytes()).hexdigest()
    )


def test_same_contents_same_bytes(package: Path, tmp_path: Path) -> None:
    again = tmp_path / "again.amphora"
    shuffled = dict(reversed(list(contents().items.items())))
    digest = write_package(contents(items=shuffled), again)
    assert again.read_bytes() == package.read_bytes()
    assert digest == read_package(package).package_digest


@pytest.mark.parametrize("sizes", [[80], [1, 79], [9] * 9], ids=str)
def test_what_is_as_regular_as_can_be_is_no_bomb(tmp_path: Path, sizes: list[int]) -> None:
    files = {}
    for number, size in enumerate(sizes):
        content = bytes([number]) * (size * PIECE_BYTES - number)
        files[hashlib.sha256(content).hexdigest()] = content
    icons = {f"app:{name[:8]}": f"amphora:file:{name}#image%2Fpng" for name in files}
    items = {key: Item(key, 1, {"icon": icon}, States(key[4:])) for key, icon in icons.items()}
    path = tmp_path / "olive-1.2.0.amphora"
    write_package(contents(items=items, files=files, needs=(), sheets={"app": 'kind = "app"\n'}), path)
    assert path.stat().st_size < 2 * PIECE_BYTES
    assert {name: hashlib.sha256(whole(raw)).hexdigest() for name, raw in read_package(path).files.items()} == {
        name: name for name in files
    }
    assert zipfile.ZipFile(path).testzip() is None


def test_an_interrupted_write_leaves_nothing(package: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    before = package.read_bytes()
    monkeypatch.setattr(os, "fsync", lambda _: (_ for _ in ()).throw(OSError("disk full")))
    with pytest.raises(OSError, match="disk full"):
        write_package(contents(note="other"), package)
    assert package.read_bytes() == before
    assert [path.name for path in tmp_path.iterdir()] == [package.name]


def rezipped(package: Path, edit: Edit, refresh: bool = False) -> Path:
    """The package with its members edited; with `refresh` the manifests are made to fit again."""
    with zipfile.ZipFile(package) as archive:
        members = edit({name: archive.read(name) for name in archive.namelist()})
    return zipped(package.with_name("edited.amphora"), mended(members) if refresh else members)


ITEM = "olive-1.2.0/data/items/flow/mill/Weigh=20ticket.json"


def _listing(change: Callable[[dict[str, object]], object]) -> Edit:
    def edit(members: dict[str, bytes]) -> dict[str, bytes]:
        listing = json.loads(members[LISTING])
        change(listing)
        return {**members, LISTING: json.dumps(listing).encode()}

    return edit


HOSTILE: dict[str, tuple[Edit, bool, str]] = {
    "changed item": (lambda m: {**m, ITEM: b'{"n":7}'}, False, "SHA-256 differs"),
    "changed item, manifests mended": (lambda m: {**m, ITEM: b'{"n":7}'}, True, "digest differs"),
    "huge number": (lambda m: {**m, ITEM: b'{"n":1' + b"0" * 400 + b"}"}, True, "exactly"),
    "missing item": (lambda m: {n: r for n, r in m.items() if n != ITEM}, False, "listed but not"),
    "extra file": (lambda m: {**m, "olive-1.2.0/data/items/flow/x.json": b"{}"}, False, "not listed"),
    "extra item, manifests mended": (lambda m: {**m, "olive-1.2.0/data/items/flow/x.json": b"{}"}, True, "belongs to no item"),
    "outside the folder": (lambda m: {**m, "olive-1.2.0/../../evil": b""}, False, "outside"),
    "absolute": (lambda m: {**m, "/etc/evil": b""}, False, "outside"),
    "drive": (lambda m: {**m, "olive-1.2.0/C:evil": b""}, False, "outside"),
    "another folder": (lambda m: {**m, "other/evil": b""}, False, "outside"),
    "case collision": (lambda m: {**m, ITEM.replace("Weigh", "wEIGH"): b""}, False, "one file on some"),
    "duplicate names in JSON": (lambda m: {**m, LISTING: b'{"name":1,"name":2}'}, True, "twice"),
    "not UTF-8": (lambda m: {**m, LISTING: b'{"name":"\xff"}'}, True, "UTF-8"),
    "deeply nested": (lambda m: {**m, LISTING: b"[" * 100_000}, True, "nested"),
    "future format": (_listing(lambda row: row.update(amphora={"format": "2.0"})), True, "format 2.0"),
    "no list": (lambda m: {n: r for n, r in m.items() if n != LISTING}, True, "packing-list"),
    "incomplete list": (_listing(lambda row: row.pop("needs")), True, "needs is missing"),
    "other token places": (_listing(lambda row: row["contents"][1]["tokens"]["whole"].append("/n")), True, "other places"),  # type: ignore[index]
    "wrong contents digest": (_listing(lambda row: row.update(contents_digest="0" * 64)), True, "contents digest"),
    "renamed": (_listing(lambda row: row.update(name="else")), True, "not named after it"),
    "bomb": (lambda m: {**m, "olive-1.2.0/data/files/b": b"\0" * 2**27}, False, "bomb"),
    "no bag": (lambda m: {n: r for n, r in m.items() if not n.endswith("bagit.txt")}, False, "bagit.txt"),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_packages_are_refused_with_the_reason(package: Path, name: str) -> None:
    edit, refresh, reason = HOSTILE[name]
    with pytest.raises(PackageDamaged, match=reason):
        read_package(rezipped(package, edit, refresh))


@pytest.mark.filterwarnings("ignore:Duplicate name")
def test_links_duplicates_and_other_files_are_refused(package: Path, tmp_path: Path) -> None:
    link = zipfile.ZipInfo("olive-1.2.0/data/link")
    link.external_attr = 0o120777 << 16
    for extra, reason in ((link, "link"), (zipfile.ZipInfo(ITEM), "two of its members|two members")):
        raw = io.BytesIO(package.read_bytes())
        with zipfile.ZipFile(raw, "a") as archive:
            archive.writestr(extra, "x")
        path = tmp_path / "bad.amphora"
        path.write_bytes(raw.getvalue())
        with pytest.raises(PackageDamaged, match=reason):
            read_package(path)
    path.write_bytes(b"no zip at all")
    with pytest.raises(PackageDamaged, match="is not a package"):
        read_package(path)


def test_overlapping_members_and_lying_sizes_are_refused(package: Path) -> None:
    good = package.read_bytes()
    with zipfile.ZipFile(package) as archive:
        first, second = archive.infolist()[:2]
        start = archive.start_dir
    entry = good.index(second.filename.encode(), start) - 46
    overlapping = good[: entry + 42] + first.header_offset.to_bytes(4, "little") + good[entry + 46 :]
    lying = good[: entry + 24] + (5).to_bytes(4, "little") + good[entry + 28 :]
    for bad, reason in ((overlapping, "share bytes"), (lying, "CRC|size|damaged|not what")):
        path = package.with_name("bad.amphora")
        path.write_bytes(bad)
        with pytest.raises(PackageDamaged, match=reason):
            read_package(path)


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(data=st.data())
def test_no_mutation_is_read_as_something_else(package: Path, data: st.DataObject) -> None:
    good = package.read_bytes()
    position = data.draw(st.integers(0, len(good) - 1))
    length = data.draw(st.sampled_from([0, 1, 4, 100]))
    filler = data.draw(st.binary(max_size=6))
    bad = package.with_name("mutated.amphora")
    bad.write_bytes(good[:position] + filler + good[position + length :])
    try:
        read = read_package(bad)
    except PackageDamaged:
        return
    assert read.digest() == contents().digest()
    assert dict(read.items) == dict(contents().items)


def test_names_mean_the_newest_version(tmp_path: Path) -> None:
    versions = ["1.9.0", "1.10.0", "1.10.0-rc.1", "0.3.0"]
    for version in versions:
        write_package(contents(version=version), tmp_path / f"olive-{version}.amphora")
    (tmp_path / "olive-press-3.0.0.amphora").write_bytes(b"")
    assert find_package("olive", tmp_path).name == "olive-1.10.0.amphora"
    assert find_package("olive-1.9.0", tmp_path).name == "olive-1.9.0.amphora"
    assert sorted(versions, key=version_order) == ["0.3.0", "1.9.0", "1.10.0-rc.1", "1.10.0"]
    assert [is_version(text) for text in ("1.2", "01.0.0", "1.0.0-a.b+c", "v1.0.0")] == [False, False, True, False]
