"""The values that every layer speaks in: what an environment lists, what a package holds, what was found."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace
from enum import StrEnum
from functools import cached_property
from typing import Any

import orjson

from amphora.core.values.canon import NotCanonical, digest, loose_digest
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NOTHING, NextStep
from amphora.core.values.raw import Raw, sha256_of
from amphora.core.values.scan import token_places
from amphora.core.values.strict_json import pretty_bytes
from amphora.core.values.tokens import NEED_KINDS, PREFIX, Token, TokenPlace, parse_token

_NO_ITEMS = tuple(f"{kind}:" for kind in (*NEED_KINDS, "unbound", "file"))

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
        # Left out and not null: a state that the kind lacks must not look like one that is off.
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
    """Something that an environment offers: a connection, a setting or a person (see `kind`). `is_unnamed` where
    people gave it no name: `name` is then what the environment knows of it, which moves with its address."""

    kind: str
    native_id: str
    name: str
    type: str = ""
    owner: str = ""
    is_working: bool | None = None
    is_unnamed: bool = False


@dataclass(frozen=True)
class Limits:
    """What an environment holds at most: items by kind, and bytes of one definition as JSON; no entry and
    None mean that there is no limit, or that nobody tells."""

    items: Mapping[str, int] = field(default_factory=dict)
    item_bytes: int | None = None


class Folded:
    """A JSON document held as its bytes in the fixed layout of packages, which take a fifth of the memory;
    it is parsed anew whenever it is asked for."""

    # A hundred thousand of them may be in memory at once.
    __slots__ = ("text",)

    def __init__(self, text: bytes) -> None:
        """`text` has the fixed layout."""
        self.text = text

    def value(self) -> Json:
        """The document."""
        return orjson.loads(self.text)


@dataclass(frozen=True, slots=True)
class Leak:
    """Something that looks like a secret, in clear: where, by which rule, the mark under which it can be silenced,
    and as much of it as may be shown. One that is not `is_sure` is worth a look."""

    place: str
    rule: str
    mark: str
    shown: str
    is_sure: bool = True


@dataclass(frozen=True, eq=False)
class Item:
    """One item in portable form, as packages carry it and comparisons see it. Form and layout are given
    as values or `Folded`; `folded` gives the same item with both folded. `unpublished` tells of edits that
    lay unpublished in the source when the live version was packed: by whom, and since when. `leaks` are the secrets
    that stood in it and are hidden in this form."""

    key: Key
    schema: int
    _form: Json
    states: States
    _layout: Json = None
    native_id: str = ""
    link: str = ""
    unpublished: str = ""
    leaks: tuple[Leak, ...] = ()

    @property
    def kind(self) -> str:
        return kind_of(self.key)

    @property
    def form(self) -> Json:
        """The portable form."""
        return self._form.value() if isinstance(self._form, Folded) else self._form

    @property
    def layout(self) -> Json:
        """Positions and the like, None if there are none."""
        return self._layout.value() if isinstance(self._layout, Folded) else self._layout

    @property
    def form_bytes(self) -> bytes:
        """The form in the fixed layout of packages."""
        return self._form.text if isinstance(self._form, Folded) else pretty_bytes(self._form)

    @property
    def layout_bytes(self) -> bytes | None:
        """The layout likewise."""
        # None and not the bytes of null: no layout and an empty one are two things.
        if self._layout is None:
            return None
        return self._layout.text if isinstance(self._layout, Folded) else pretty_bytes(self._layout)

    def folded(
        self,
        form_bytes: bytes | None = None,
        layout_bytes: bytes | None = None,
        places: Sequence[TokenPlace] | None = None,
    ) -> Item:
        """The same item in less memory, its digest and places worked out; NotCanonical as `digest`. Whoever
        has form and layout as bytes in the fixed layout, or the places, gives them."""
        # Worked out before the form is folded: afterwards each would parse it once more.
        digest, places = self.digest, self.places if places is None else places
        form, layout = Folded(form_bytes or self.form_bytes), layout_bytes or self.layout_bytes
        beside = None if layout is None else Folded(layout)
        smaller = replace(self, _form=form, _layout=beside)
        # Past the frozen class on purpose: these are caches, and hold what would be worked out again.
        smaller.__dict__.update(digest=digest, places=places)
        return smaller

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Item):
            return NotImplemented
        # By digest: two forms are compared without being parsed.
        mine = (self.key, self.schema, self.states, self.native_id, self.link, self.layout_bytes, self.fingerprint)
        its = (
            other.key,
            other.schema,
            other.states,
            other.native_id,
            other.link,
            other.layout_bytes,
            other.fingerprint,
        )
        return mine == its

    # Equal items would need equal hashes over a form of any size; nobody keeps items in sets.
    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def places(self) -> Sequence[TokenPlace]:
        """Every place at which a token stands."""
        return token_places(self.form)

    @cached_property
    def digest(self) -> str:
        """The item digest: SHA-256 over the canonical portable form; NotCanonical where that has none."""
        return digest(self.form)

    @property
    def fingerprint(self) -> str:
        """What tells this form from another one: its digest, or, of one that no package could hold, another."""
        try:
            return self.digest
        except NotCanonical:
            return loose_digest(self.form)

    @cached_property
    def tokens(self) -> tuple[tuple[TokenPlace, Token], ...]:
        """The places with their tokens taken apart."""
        return tuple((place, token) for place in self.places if (token := parse_token(place.token)))

    def uses(self) -> set[Key]:
        """The keys of the other items that this one refers to."""
        named = {place.token[len(PREFIX) :].partition("#")[0] for place in self.places}
        # By prefix instead of parsed: this runs for each of twenty thousand references of one item.
        return {key for key in named if key != self.key and not key.startswith(_NO_ITEMS)}


@dataclass(frozen=True, slots=True)
class Need:
    """Something that a package uses and does not carry: `key` as in `connection:mill-db`. `seen` is the
    digest of an item that stays at home, as the source had it when the package was made."""

    key: Key
    used_by: tuple[Key, ...]
    type: str = ""
    seen: str = ""

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
    """One result of a check: what, where, and what to do about it. `place` is a JSON Pointer into the item's form,
    `phrase` the same place with elements of named arrays under their names. `mark` is given where what was found is
    to be silenced as this value only, not as whatever stands at the place; `lacks` is the key of what isn't there."""

    rule: str
    level: Level
    message: str
    item: Key = ""
    place: str = ""
    next_step: NextStep = NOTHING
    target: str = ""
    phrase: str = ""
    mark: str = ""
    lacks: Key = ""


@dataclass(frozen=True, slots=True)
class Claim:
    """A package's hold on an item of an environment; `version` is the one that it delivered last. `custody` says in
    whose hands the copy there is: package or target."""

    key: Key
    package: str
    source_uid: str
    version: str
    custody: str = "package"


@dataclass(frozen=True, slots=True)
class Contents:
    """What a package holds, in memory: items by key, and what they need. `is_edited` if it was read from a
    folder, where digests are computed and not compared. `bases` are the forms and states that edits were made
    on, where a package carries edits back. `afterwards` is what its maker asks to be done after an import. `file` is
    where it was read from, if that was not the workspace. `notes` are its maker's words on single items, for whoever
    has to set something up by hand."""

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
    is_edited: bool = False
    source_release: str = ""
    bases: Mapping[Key, tuple[Json, States]] = field(default_factory=dict, repr=False)
    file: str = ""
    notes: Mapping[Key, str] = field(default_factory=dict)
    afterwards: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        return f"{self.name} {self.version}"

    @property
    def spoken(self) -> str:
        """How it is named on the command line: another one of that name may lie in the workspace."""
        return self.file or self.name

    def digest(self) -> str:
        """The contents digest (design, section 3)."""
        # Rows count by their bytes, in order: what a table holds is part of what was delivered.
        rows = [f"{key} {sha256_of(raw)}" for key, raw in sorted(self.records.items())]
        return contents_digest(self.items, self.needs, [*self.files, *rows])

    def layout_digest(self) -> str:
        """SHA-256 over what the contents digest leaves out: the layout of the items."""
        rows = [f"{key} {sha256_of(raw)}" for key, item in sorted(self.items.items()) if (raw := item.layout_bytes)]
        return sha256_of("\n".join(rows).encode())


def contents_digest(items: Mapping[Key, Item], needs: tuple[Need, ...], files: Iterable[str]) -> str:
    """SHA-256 over the sorted (key, schema, item digest, states), the keys of the needs and the SHA-256
    of the files."""
    # Not the package's name, version, note or time: what counts is whether the contents are the same.
    rows = [[key, item.schema, item.digest, item.states.to_json()] for key, item in sorted(items.items())]
    return digest({"items": rows, "needs": sorted(need.key for need in needs), "files": sorted(files)})
