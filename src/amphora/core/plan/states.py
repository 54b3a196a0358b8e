"""What counts of one item in a target: whole enough to be made again, and a mark to compare it by."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import field, replace
from typing import Final

from amphora.core.form.again import is_seen_otherwise
from amphora.core.form.attachments import kept_apart
from amphora.core.form.hollow import let_go, without_new
from amphora.core.form.kinds import KindSheet
from amphora.core.form.named import by_name
from amphora.core.form.settled import settled
from amphora.core.values.canon import loose_digest
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, Listed, States

ABSENT: Final = "absent"
"""The mark of an item that is not there."""


@dataclass(frozen=True)
class Image:
    """One item of a target in native words, secrets masked: its state (plan, section 1) and what it takes to
    make it again.

    `live` is the definition that people work with, None where there never was one; `draft` the unpublished
    edits beside it. An environment without drafts has a live definition only. `rows` is None where the item
    holds none. Revision, time and person are no part of the state: they make conditional calls possible and
    name people.
    """

    native_id: str
    kind: str
    segments: tuple[str, ...]
    states: States
    live: Json = None
    draft: Json = None
    rows: int | None = None
    revision: str = ""
    modified_at: str | None = None
    modified_by: str | None = None
    link: str = ""

    @property
    def newest(self) -> Json:
        """The draft if there is one, else the live definition."""
        return self.live if self.draft is None else self.draft

    @property
    def place(self) -> tuple[str, str, str]:
        """Kind, folder and name: where many platforms allow one item only."""
        return self.kind, self.states.folder, self.segments[-1] if self.segments else self.states.title

    @staticmethod
    def of(row: Listed, live: Json, draft: Json = None) -> Image:
        """What an index row and its definitions make together."""
        # Beside the state and no part of it: they make a question answerable, and equal nothing.
        who = (row.modified_at, row.modified_by)
        return Image(
            row.native_id, row.kind, row.segments, row.states, live, draft, row.rows, row.revision, *who, row.link
        )

    def to_json(self) -> dict[str, Json]:
        """As it stands in the ledger."""
        table: dict[str, Json] = {"id": self.native_id, "kind": self.kind, "segments": list(self.segments)}
        # Rows by number only: what they hold lies in the run's folder, and may be larger than the ledger.
        table |= {"states": self.states.to_json(), "live": self.live, "draft": self.draft, "rows": self.rows}
        return table | {"revision": self.revision, "at": self.modified_at, "by": self.modified_by, "link": self.link}

    @staticmethod
    def from_json(table: Mapping[str, Json]) -> Image:
        """The inverse of `to_json`."""
        return Image(
            table["id"],
            table["kind"],
            tuple(table["segments"]),
            States.from_json(table["states"]),
            table["live"],
            table["draft"],
            table["rows"],
            table["revision"],
            table["at"],
            table["by"],
            table["link"],
        )


@dataclass(frozen=True)
class Habits:
    """What an environment does by itself when something is written: enough to know beforehand what a step
    will leave. See `environments.contract.Capabilities`, from which it is made."""

    has_drafts: bool
    writes_states: bool
    is_atomic: bool
    takes_back: bool
    sheets: Mapping[str, KindSheet]
    fills_in: bool = False
    loads_in_pieces: bool = False
    rests: frozenset[tuple[str, str]] = frozenset()
    apart: Mapping[str, Sequence[str]] = field(default_factory=dict)
    marked_with: Mapping[str, KindSheet] | None = None

    def mark(self, image: Image | None) -> str:
        """The mark of a state, by the kind sheets with which the other marks of the run were made: what a sheet has
        learned since would make every state look like another one."""
        if image and (names := self.unknown_then(image.kind)):
            image = replace(image, live=_without(image.live, names), draft=_without(image.draft, names))
        return mark_of(image, self.marked_with or self.sheets)

    def unknown_then(self, kind: str) -> frozenset[str]:
        """Members that are read by now, and were not when a run made its marks."""
        then, now = self._reads(kind)
        return now - then

    def no_longer_read(self, kind: str) -> frozenset[str]:
        """Members that counted in the marks of a run, and that nobody reads any more."""
        then, now = self._reads(kind)
        return then - now

    def is_seen_otherwise(self, kind: str) -> bool:
        """Whether what stands there looks otherwise by now than when a run made its marks: its kind sheet has learned
        of JSON in strings, of ids, of secrets."""
        return bool(self.marked_with) and is_seen_otherwise(kind, self.marked_with or {}, self.sheets)

    def _reads(self, kind: str) -> tuple[frozenset[str], frozenset[str]]:
        then, now = (sheets.get(kind) for sheets in (self.marked_with or {}, self.sheets))
        if not then or not now or then.reads is None or now.reads is None:
            return frozenset(), frozenset()
        return then.reads, now.reads

    def bare(self, image: Image | None) -> Image | None:
        """An item as its first call leaves it: without the members that are written by calls of their own, and
        perhaps on, where it is to be off."""
        names = self.apart.get(image.kind) if image else None
        if image is None or names is None:
            return image
        live, draft = (_without(version, names) for version in (image.live, image.draft))
        return replace(image, live=live, draft=draft, states=replace(image.states, is_on=None))

    def halves(self, before: Image, meant: Image) -> list[Image]:
        """The states in which a change that takes several calls may stop, without the members that have calls of
        their own: not begun, called otherwise, moved, between two calls that write parts, written."""
        titled = replace(before, states=replace(before.states, title=meant.states.title))
        moved = replace(titled, states=replace(titled.states, folder=meant.states.folder))
        between = self.between(before, meant)
        return [bare for one in (before, titled, moved, *between, meant) if (bare := self.bare(one))]

    def between(self, before: Image, meant: Image) -> list[Image]:
        """The states between the calls of a change that gives parts to other places, or names new ones: nobody meant
        them, and nothing in them is anybody's."""
        sheet = self.sheets[before.kind]
        if not sheet.own_parts:
            return []

        def with_versions(image: Image, change: Callable[[Json], Json]) -> Image:
            live, draft = (None if one is None else change(one) for one in (image.live, image.draft))
            return replace(image, live=live, draft=draft)

        moved = replace(before, states=replace(meant.states, is_on=before.states.is_on))
        found = [with_versions(one, lambda version: let_go(version, sheet)) for one in (before, moved)]
        found.append(with_versions(meant, lambda version: without_new(version, before.newest, sheet)))
        return [one for one in found if self.mark(one) not in (self.mark(before), self.mark(meant))]

    def pieces(self, image: Image | None) -> dict[str, set[str]]:
        """What a change of the members with calls of their own may do one after the other: the digests of their
        entries, or of the whole where one has none."""
        names = self.apart.get(image.kind, ()) if image else ()
        newest = image.newest if image and isinstance(image.newest, dict) else {}
        held = {name: newest[name] for name in names if newest.get(name) is not None}
        return {
            name: {loose_digest(one) for one in (part if isinstance(part, list) else [part])}
            for name, part in held.items()
        }

    def members(self, image: Image | None) -> dict[str, str]:
        """Digests of the members that are written together, as marks see them, but for the order of named elements:
        some platforms list these in one of their own."""
        bare = self.bare(image)
        sheet = (self.marked_with or self.sheets).get(bare.kind) if bare else None
        newest = settled(bare.newest, sheet) if bare and sheet else None
        named = by_name(newest, sheet.places.walk(newest)) if sheet else None
        return {name: loose_digest(part) for name, part in named.items()} if isinstance(named, dict) else {}

    def less(self, image: Image | None, names: Collection[str]) -> Image | None:
        """A bare item without these members."""
        bare = self.bare(image)
        if bare is None:
            return None
        live, draft = (_without(version, names) for version in (bare.live, bare.draft))
        return replace(bare, live=live, draft=draft)

    def drafts(self, kind: str) -> bool:
        """Whether a write to items of this kind goes to a draft, which somebody has to publish."""
        return self.has_drafts and self.sheets[kind].is_published


def _without(version: Json, names: Collection[str]) -> Json:
    if not isinstance(version, dict):
        return version
    return {name: part for name, part in version.items() if name not in names}


def mark_of(image: Image | None, sheets: Mapping[str, KindSheet]) -> str:
    """What two states are compared by: equal marks, equal states. Rows stand behind a colon, because they
    count only for items that a run itself made, filled or removed: in others people go on working."""
    if image is None:
        return ABSENT
    sheet = sheets.get(image.kind)
    live, draft = (
        None if version is None else settled(version, sheet) if sheet else version
        for version in (image.live, image.draft)
    )
    states = image.states
    # The link and the id are left out on purpose: an item made again has others, and is the same state all the same.
    told = [image.kind, states.title, states.folder, states.is_on, states.is_published, live, draft]
    return f"{loose_digest(told)}:{image.rows or 0}"


def files_of(image: Image | None, sheets: Mapping[str, KindSheet]) -> set[str]:
    """The attachments, by SHA-256, that an item names instead of holding them, live or in its draft."""
    sheet = sheets.get(image.kind) if image else None
    if image is None or sheet is None:
        return set()
    return {name for one in (image.live, image.draft) if one is not None for name in kept_apart(one, sheet)}


def is_plainly(image: Image | None, other: Image | None) -> bool:
    """Whether two states are equal to the letter, so that their marks are too: what is quick to see, and most often
    so. That they are not says nothing."""
    if image is None or other is None:
        return image is other
    # Without what costs: most looks find what was meant, to the letter.
    told = (image.kind, image.states, image.rows or 0) == (other.kind, other.states, other.rows or 0)
    return told and image.live == other.live and image.draft == other.draft


def is_same(left: str, right: str, counts_rows: bool = False) -> bool:
    """Whether two marks are those of one state."""
    if counts_rows or ABSENT in (left, right):
        return left == right
    return left.partition(":")[0] == right.partition(":")[0]


def rows_in(mark: str) -> int:
    """How many rows a state with this mark has."""
    return int(mark.rpartition(":")[2] or 0) if ":" in mark else 0
