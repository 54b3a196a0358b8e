"""Halcyon Grove: the made-up co-operative whose four environments serve as demo data."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import field
from importlib.resources import files
from pathlib import Path
from typing import Any

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.native import to_native
from amphora.core.values.keys import kind_of, path_of
from amphora.core.values.late import dataclass
from amphora.practice.items import ID_PATTERN, JOINER, RELEASE
from amphora.practice.platform import Platform
from amphora.practice.sheets import practice_sheets

KEEPER = "keeper@halcyon.example"
AUTHOR = "author@halcyon.example"
READER = "reader@halcyon.example"
SUFFIX = ".practice"


@dataclass(frozen=True)
class Place:
    """One of the four environments. `connections` are (need, name there, type); `people` (need, address);
    `broken` and `objects` tell, by need, which connections don't work and what can be reached through them."""

    name: str
    role: str
    region: str
    base_url: str
    connections: Sequence[tuple[str, str, str]]
    people: Sequence[tuple[str, str]]
    present: Sequence[str] = ()
    release: str = RELEASE
    schemas: Mapping[str, int] = field(default_factory=dict)
    items_limit: Mapping[str, int] = field(default_factory=dict)
    item_bytes_limit: int | None = None
    broken: Sequence[str] = ()
    objects: Mapping[str, Sequence[str]] = field(default_factory=dict)


_TYPES = {"mill-db": "database", "office-db": "database", "weighbridge": "feed", "lab-exchange": "exchange"}
_TYPES |= {"bank-drop": "file-drop"}


def _connections(suffix: str, *names: str) -> list[tuple[str, str, str]]:
    return [(name, name + suffix, _TYPES[name]) for name in names]


def _people(domain: str) -> list[tuple[str, str]]:
    local = {"intake-desk": "intake", "lab": "lab", "office": "office", "mill-master": "mill"}
    return [(need, f"{name}@{domain}") for need, name in local.items()]


PLACES: Mapping[str, Place] = {
    place.name: place
    for place in (
        Place(
            "grove-dev",
            "build",
            "north",
            "https://dev.halcyon.example",
            _connections("-dev", "mill-db", "office-db", "weighbridge", "lab-exchange", "bank-drop"),
            _people("dev.halcyon.example"),
        ),
        Place(
            "grove-test",
            "test",
            "north",
            "https://test.halcyon.example",
            _connections("-test", "mill-db", "office-db", "weighbridge", "lab-exchange", "bank-drop"),
            _people("test.halcyon.example"),
        ),
        Place(
            "grove-live",
            "live",
            "north",
            "https://www.halcyon.example",
            [
                ("mill-db", "mill-main", "database"),
                ("office-db", "office-main", "database"),
                ("weighbridge", "weighbridge", "feed"),
                ("bank-drop", "bank-drop", "file-drop"),
            ],
            _people("halcyon.example"),
            present=("theme:house/olive",),
        ),
        Place(
            "grove-south",
            "live",
            "south",
            "https://south.halcyon.example",
            _connections("-south", "mill-db", "office-db", "weighbridge"),
            _people("south.halcyon.example"),
            release="2025.4",
            schemas={"access-rule": 0, "app": 0, "skin": 0},
            items_limit={"report": 2},
            item_bytes_limit=20_000,
            broken=("weighbridge",),
            objects={"mill-db": ("deliveries", "lab_results")},
        ),
    )
}


def seeds() -> list[dict[str, Any]]:
    """The items of Halcyon Grove in portable form, used before user."""
    from ruamel.yaml import YAML

    text = (files("amphora.practice") / "halcyon.yaml").read_text(encoding="utf-8")
    rows: list[dict[str, Any]] = YAML(typ="safe").load(text)
    return rows


def make_halcyon(folder: Path) -> list[Path]:
    """Makes the four practice environments as files in a folder; returns their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    rows = seeds()
    result = []
    for place in PLACES.values():
        path = folder / f"{place.name}{SUFFIX}"
        accounts = {KEEPER: "keeper", AUTHOR: "author", READER: "reader"}
        accounts |= {row["by"]: "keeper" for row in rows}
        Platform.found(
            path,
            f"practice-{place.name}",
            place.name,
            place.region,
            place.base_url,
            accounts,
            release=place.release,
            schemas=dict(place.schemas),
            items_limit=dict(place.items_limit),
            item_bytes_limit=place.item_bytes_limit,
        )
        is_source = place.role == "build"
        fill(path, place, [row for row in rows if is_source or row["key"] in place.present])
        result.append(path)
    return result


def fill(path: Path, place: Place, rows: Sequence[Mapping[str, Any]]) -> dict[str, str]:
    """Puts connections, people and items into an environment; returns native ids by key."""
    names = Bindings(IdStyle(ID_PATTERN, JOINER))
    names.bind("url:environment", place.base_url)
    with closing(Platform(path, KEEPER, lambda: "2026-01-07T08:00:00Z")) as platform:
        for need, name, type_ in place.connections:
            works, objects = need not in place.broken, place.objects.get(need)
            id_ = platform.add_supply("connection", name, type_, KEEPER, works, objects)
            names.bind(f"connection:{need}", id_)
        for need, address in place.people:
            names.bind(f"person:{need}", platform.add_supply("person", address))
    for number, row in enumerate(rows):
        stamp = f"2026-{3 + number // 28:02d}-{number % 28 + 1:02d}T09:{number % 60:02d}:00Z"
        with closing(Platform(path, row["by"], lambda stamp=stamp: stamp)) as platform:  # type: ignore[misc]
            names.bind(row["key"], _create(platform, row, names))
    return {key: str(value) for key, value in names.values.items()}


def made_up_rows(columns: Sequence[Mapping[str, str]], count: int) -> Iterator[dict[str, Any]]:
    """Rows that fit a table's columns: the same every time."""
    for number in range(1, count + 1):
        yield {
            column["id"]: number * 7 % 1000 if column["type"] == "number" else f"{column['id']}-{number}"
            for column in columns
        }


def _create(platform: Platform, row: Mapping[str, Any], names: Bindings) -> str:
    key, sheet = row["key"], practice_sheets()[kind_of(row["key"])]
    folder, _, name = path_of(key).rpartition("/")
    definition = to_native(row["form"], sheet, names).definition
    id_ = platform.create(sheet.kind, folder, name, row["title"], definition, None, f"seed/{key}")
    if sheet.is_published:
        platform.publish(id_)
    if row.get("on"):
        platform.switch(id_, True)
    if "rows" in row:
        platform.add_records(id_, made_up_rows(row["form"]["columns"], row["rows"]))
    return id_
