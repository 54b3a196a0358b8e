"""The values that every layer speaks in: what an environment lists, what a package holds, what was found."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from typing import Any

from amphora.core.canon import digest, plain_digest
from amphora.core.keys import Key, kind_of
from amphora.core.raw import Raw, sha256_of
from amphora.core.scan import Scan
from amphora.core.tokens import Token, TokenPlace, parse_token

Json = Any
"""A JSON value: dict, list, str, int, float, bool or None."""


@dataclass(frozen=True, slots=True)
class States:
    """What stands beside a definition. `folder` is `/`-joined; None where a kind has no such state."""

    title: str
    folder: str = ""
    is_on: bool | None = None
    is_published: bool | None = None

    def to_json(self) -> dict[str, Json]:
        """As it stands in a packing list; states that the kind lacks are left out."""
        table = {"title": self.title, "folder": self.folder, "on": self.is_on, "published": self.is_published}
        return {name: value for name, value in table.items() if value is not None}

    @staticmethod
    def from_json(table: Mapping[str, Json]) -> States:
        """The inverse of `to_json`."""
        return States(table["title"], table.get("folder", ""), table.get("on"), table.get("published"))


@dataclass(frozen=True, slots=True)
class Listed:
    """One row of an environment's index.

    `segments` are the raw path segments from which a key is made when the item is first met. `parts`
    lists the ids of its parts where these are unique in the whole environment. `revision` changes with
    every write.
    """

    native_id: str
    kind: str
    segments: tuple[str, ...]
    states: States
    revision: str
    link: str = ""
    modified_at: str | None = None
    modified_by: str | None = None
    has_draft: bool = False
    is_drafted_only: bool = False
    size_bytes: int | None = None
    rows: int | None = None
    parts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Found:
    """An item as an environment holds it: its index row and its native definition, secrets masked."""

    listed: Listed
    definition: Json


@dataclass(frozen=True, slots=True)
class Supply:
    """Something that an environment offers: a connection, a setting or a person (see `kind`)."""

    kind: str
    native_id: str
    name: str
    type: str = ""
    owner: str = ""
    is_working: bool | None = None


@dataclass(frozen=True)
class Item:
    """One item in portable form, as packages carry it and comparisons see it."""

    key: Key
    schema: int
    form: Json
    states: States
    layout: Json = None
    native_id: str = ""
    link: str = ""

    @property
    def kind(self) -> str:
        return kind_of(self.key)

    @cached_property
    def _scan(self) -> Scan:
        return Scan(self.form)

    @property
    def places(self) -> Sequence[TokenPlace]:
        """Every place at which a token stands."""
        return self._scan.places

    @cached_property
    def digest(self) -> str:
        """The item digest: SHA-256 over the canonical portable form."""
        return plain_digest(self.form) if self._scan.is_plain else digest(self.form)

    @cached_property
    def tokens(self) -> tuple[tuple[TokenPlace, Token], ...]:
        """The places with their tokens taken apart."""
        return tuple((place, token) for place in self.places if (token := parse_token(place.token)))

    def uses(self) -> set[Key]:
        """The keys of the other items that this one refers to."""
        return {token.key for _, token in self.tokens if token.is_item and token.key != self.key}


@dataclass(frozen=True, slots=True)
class Need:
    """Something that a package uses and does not carry: `key` as in `connection:mill-db`."""

    key: Key
    used_by: tuple[Key, ...]
    type: str = ""

    @property
    def kind(self) -> str:
        return kind_of(self.key)


class Level(StrEnum):
    """How much a finding counts, in the words of SARIF 2.1.0."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Finding:
    """One result of a check: what, where, and what to do about it."""

    rule: str
    level: Level
    message: str
    item: Key = ""
    place: str = ""
    next_step: str = ""
    target: str = ""


@dataclass(frozen=True, slots=True)
class Contents:
    """What a package holds, in memory: items by key, and what they need."""

    name: str
    version: str
    source: str
    source_uid: str
    items: Mapping[Key, Item]
    needs: tuple[Need, ...]
    note: str = ""
    sheets: Mapping[str, str] = field(default_factory=dict)
    files: Mapping[str, Raw] = field(default_factory=dict, repr=False)
    records: Mapping[Key, Raw] = field(default_factory=dict, repr=False)
    package_digest: str = ""
    format_minor: int = 0
    signature: bytes = field(default=b"", repr=False)

    @property
    def title(self) -> str:
        return f"{self.name} {self.version}"

    def digest(self) -> str:
        """The contents digest (design, section 3)."""
        rows = [f"{key} {sha256_of(raw)}" for key, raw in sorted(self.records.items())]
        return contents_digest(self.items, self.needs, [*self.files, *rows])


def contents_digest(items: Mapping[Key, Item], needs: tuple[Need, ...], files: Iterable[str]) -> str:
    """SHA-256 over the sorted (key, schema, item digest, states), the keys of the needs and the SHA-256
    of the files."""
    rows = [[key, item.schema, item.digest, item.states.to_json()] for key, item in sorted(items.items())]
    return digest({"items": rows, "needs": sorted(need.key for need in needs), "files": sorted(files)})
