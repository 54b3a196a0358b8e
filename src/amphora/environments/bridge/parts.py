"""What a bridge sheet says, as values: calls, lists, kinds of items, and what is on offer."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from typing import Any

from amphora.core.form.kinds import KindSheet
from amphora.core.form.native_ids import held_id
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.environments.bridge.paths import Flag, dropped, member_path, place_of, text_at

DERIVED = ("content", "etag")
"""Revisions that stand at no place of a row."""


@dataclass(frozen=True)
class Call:
    """One call: method, path with placeholders, where in the answer its subject stands, and what is sent. `name` is
    where it stands in the sheet, for people."""

    method: str
    path: str
    at: str = "$"
    body: Any = None
    headers: Mapping[str, str] = field(default_factory=dict)
    name: str = ""
    more: Mapping[str, Any] = field(default_factory=dict)
    """What else is said of it."""

    @property
    def says_id(self) -> bool:
        """Whether its path has the id of what it makes, which is then one of our choice."""
        return "{uid}" in self.path

    def placed(self, values: Mapping[str, Json]) -> Call:
        """The call for one item: its subject may be found in the answer by what it is called."""
        return replace(self, at=place_of(self.at, values)) if "{" in self.at else self

    def said(self, name: str, default: Any = "") -> Any:
        """One more thing that is said of the call."""
        return self.more.get(name, default)


@dataclass(frozen=True)
class Pages:
    """How a list comes in pieces."""

    how: str = "none"
    ask: str = ""
    size_ask: str = ""
    size: int = 0
    first: int = 1
    next: str = ""
    total: str = ""


@dataclass(frozen=True)
class Means:
    """What a refusal means: by status, the platform's own code, words in the answer, and the calls that it answers,
    by their names or the last parts of these."""

    statuses: tuple[int, ...]
    code: str
    says: str
    on: tuple[str, ...]
    means: str

    def fits(self, status: int, code: str, text: str) -> bool:
        """Whether an answer is what this is about, whatever call it answers."""
        # What is left out fits anything.
        is_it = (not self.statuses or status in self.statuses) and (not self.code or self.code == code)
        return is_it and self.says.lower() in text.lower()

    def is_of(self, call: str) -> bool:
        """Whether this is about a call of that name."""
        return not self.on or call in self.on or call.rpartition(".")[2] in self.on


@dataclass(frozen=True)
class SupplyPart:
    """What is on offer, and where that stands."""

    kind: str
    space: str
    is_number: bool
    index: Call
    paths: Mapping[str, str]
    probe: Call | None
    objects: Call | None
    is_complete: bool = True
    """Whether all that there are are listed."""


@dataclass(frozen=True)
class RowLink:
    """Where rows name rows of another item: `each` part of the definition gives a place in a row (`at`, with members
    of that part in braces) and, from where it stands, the item that is meant (`of`)."""

    each: str
    at: str
    of: str


@dataclass(frozen=True)
class RowsPart:
    """The rows that an item holds: the list of them, the call that loads some, how many at once, what of a row only
    the platform writes, and where their number stands (a place in the item's row, or a call). `id` is where a row has
    its id, and `ids` where the answer to a load has those of the new ones, in order; `links` lead to other rows."""

    read: Call
    load: Call | None
    at_once: int
    without: tuple[str, ...]
    count: str
    counted: Call | None
    id: str = ""
    ids: str = ""
    links: tuple[RowLink, ...] = ()


@dataclass(frozen=True)
class Apart:
    """A member that is written by calls of its own: as a whole, or entry by entry. `entry` is where calls on one find
    what it is called, `by` what tells one from another on every instance (`entry` where nothing else is said), and
    `without` are places of one that only the platform writes. `each` shows one of them in full, where the list
    shows less. Of an attachment `file` is the media type, or `*/*` where the platform says it; of a member that is
    nothing but text, and no JSON, `text` is."""

    write: Call | None
    add: Call | None
    remove: Call | None
    change: Call | None
    each: Call | None
    entry: str
    by: str
    without: tuple[str, ...]
    file: str = ""
    text: str = ""

    def bare(self, value: Json) -> Json:
        """The member without what only the platform writes into its entries."""
        # A member that comes as a whole has no entries, whatever the sheet says of these.
        for path in self.without if isinstance(value, list) else ():
            value = [dropped(one, path) for one in value]
        return value

    @property
    def is_written(self) -> bool:
        """Whether it can be written at all."""
        return self.write is not None or self.add is not None


@dataclass(frozen=True)
class Within:
    """What holds the items of a kind: they are listed for each of those, and the id of theirs is a member."""

    kind: str
    member: str


@dataclass(frozen=True)
class ItemPart:
    """One kind of items: its calls, and where in their answers things stand. `definition` maps the members that make
    the definition to where they stand in the single answer."""

    kind: KindSheet
    index: Call
    row: Call | None
    read: Call
    draft: Call | None
    more: Mapping[str, Call]
    paths: Mapping[str, str]
    flags: Mapping[str, Flag]
    definition: Mapping[str, str]
    write: Mapping[str, Any]
    create: Call | None
    update: Call | None
    retire: Call | None
    publish: Call | None
    take_back: Call | None
    switch: Mapping[bool, Call]
    rows: RowsPart | None = None
    apart: Mapping[str, Apart] = field(default_factory=dict)
    needs: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """The rights of which one is needed for what: `write`, `publish`, `switch`, `retire`."""
    within: Within | None = None
    hidden: tuple[str, ...] = ()
    """Places of secrets that the platform never shows: one is taken for granted wherever one could stand."""
    brings: Mapping[str, Flag | None] = field(default_factory=dict)
    """The kinds of which the platform puts some into what is new, each with what tells those that are never removed
    alone."""
    switched: Mapping[bool, Json] = field(default_factory=dict)
    """What a change writes at the place of `on`, where no call of its own switches."""

    @property
    def is_switched(self) -> bool:
        """Whether its items can be switched on and off."""
        return bool(self.switch or self.switched)

    def id_in(self, row: Json) -> str:
        """The id in a row or an answer that is shown as the sheet describes it; empty where there is none."""
        native = text_at(row, self.paths["id"])
        if not native or self.within is None or not self.kind.ids.within:
            return native
        holder = self.holder_in(row)
        return held_id(native, holder) if holder else ""

    def holder_in(self, row: Json) -> str:
        """The id of what holds the item of a row, as the platform writes it; empty where nothing does."""
        if self.within is None:
            return ""
        member = self.within.member
        return text_at(row, self.definition[member]) or text_at(row, member_path(member))

    @property
    def required(self) -> Mapping[str, Sequence[str]]:
        """The rights that it needs; giving access takes those of writing, unless the sheet tells them apart."""
        granting = {"grant": self.needs["write"]} if self.kind.is_access and "write" in self.needs else {}
        return {**granting, **self.needs}

    @property
    def changing(self) -> Sequence[tuple[str, Call | None]]:
        """The calls that change or remove what is there, by the permissions that they take."""
        return ("write", self.update), ("retire", self.retire)

    @property
    def known_by(self) -> str:
        """The place of what a creation of ours is known by for certain; empty where nothing is."""
        if self.create is None or not (self.create.said("uid") or self.create.says_id):
            return ""
        # In the path it is the id, if nothing else is said.
        return self.paths.get("uid") or self.paths["id"]

    @property
    def is_guarded(self) -> bool:
        """Whether the platform itself compares what is written with what was seen."""
        # What is never changed can't be written over either.
        return self.update is None or self.update.said("match") in ("etag", "sent")

    @property
    def unsent(self) -> frozenset[str]:
        """The members of the definition that are read, and never sent as a whole."""
        left = self.write.get("without", [])
        return frozenset(name for name in self.definition if member_path(name) in left)

    @property
    def tells_too_little(self) -> bool:
        """Whether a row of the list does not say what changed, or what is live: then each item is looked at."""
        # Each item is then looked at for the list: slow, and the only way to see that somebody has changed it.
        has_no_revision = self.paths.get("revision", "content") in DERIVED
        return has_no_revision or (self.kind.is_published and not {"published", "unpublished"} <= self.flags.keys())


@dataclass(frozen=True)
class BridgeSheet:
    """A platform's interface. `file` is where it was read."""

    name: str
    title: str
    file: str
    tried: tuple[str, ...]
    base: str
    is_spaced: bool
    leaves_out: bool
    about: Mapping[str, Call]
    links: str
    sign_in: Mapping[str, Any]
    login: Call | None
    also: tuple[Call, ...]
    account: Call | None
    code: str
    words: str
    pointer: str
    refused: Flag | None
    """What tells a refusal that is answered like anything else."""
    means: tuple[Means, ...]
    secrets: str
    folders: Mapping[str, Any]
    folder_calls: Mapping[str, Call]
    supplies: tuple[SupplyPart, ...]
    items: Mapping[str, ItemPart]
    hook: str = ""
    own: Mapping[str, str] = field(default_factory=dict)
    """What the environment says for itself, on a server that has several."""

    def goes_along(self, kind: str, *forms: Json) -> bool:
        """Whether an item of one of these definitions is one that the platform makes along with what holds it, and
        never removes alone."""
        within = self.items[kind].within
        keeps = self.items[within.kind].brings.get(kind) if within else None
        return keeps is not None and any(keeps.holds(form) for form in forms)


def pages_of(call: Call) -> Pages:
    """How the list that a call gives comes in pieces."""
    table = call.said("pages", {})
    size = table.get("size", {})
    return Pages(
        table.get("how", "none"),
        table.get("ask", ""),
        size.get("ask", ""),
        size.get("of", 0),
        table.get("first", 1),
        table.get("next", ""),
        table.get("total", ""),
    )
