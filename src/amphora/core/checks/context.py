"""What the rules look at: a package's contents and, if there is one, an index of the target."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import field
from enum import StrEnum
from functools import cached_property
from typing import Any

from amphora.core.form.copies import taken_apart
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Spot
from amphora.core.form.routes import Converted
from amphora.core.form.secrets import STRICT, Guard
from amphora.core.form.spots import named_pointer
from amphora.core.needs.crosswalk import Mapped
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Finding, Item, Level, Limits, Listed
from amphora.core.values.next_step import NOTHING, NextStep, blank, to_type
from amphora.core.values.pointers import parse_pointer, write_pointer
from amphora.core.values.rights import Lacks
from amphora.core.values.tokens import NEED_KINDS, Token, TokenPlace

_NO_REFERENCES = frozenset({*NEED_KINDS, "file"})


class Todo(StrEnum):
    """What a finding asks of the person who reads it, in the order in which it is done."""

    PACK = "pack it anew"
    MEND = "mend it in the source"
    MAP = "map it"
    PREPARE = "prepare the target"
    DECIDE = "decide before importing"
    AFTER = "see to it during or after the import"
    KNOW = "good to know"


@dataclass(frozen=True)
class Rule:
    """One rule: its name, the family it belongs to, how much it counts unless the workspace says otherwise,
    what it finds, why that matters, and what it asks for. `find` is pure."""

    name: str
    family: str
    level: Level
    todo: Todo
    finds: str
    why: str
    find: Callable[[CheckContext], Iterable[Finding]]


@dataclass(frozen=True)
class Planned:
    """What the import would do to one item: `create`, `update`, `leave` or `retire`, with the permissions
    that it takes and the places at which local edits stand against it."""

    key: Key
    do: str
    permissions: frozenset[str] = frozenset()
    clashes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Reach:
    """What a look through one of the target's connections showed (by native id)."""

    is_working: bool | None
    missing: frozenset[str] = frozenset()
    reason: str = ""


@dataclass(frozen=True)
class TargetIndex:
    """What of a target the rules need: its items by (package) key, those that the package touches or refers
    to in portable form, the kinds and features on offer, what the identity may do, and the needs resolved.

    `features` is None where the environment doesn't tell. `dropped` are the items that the package alone claims
    there and no longer holds, `gone_users` what would still use them, `shared` packed items that others claim,
    `planned` what the import would do, `converted` what was brought to the shape that the target has, `of_others`
    what another ledger has made there, `turned` what was delivered and is one of its connections by now, `severed`
    what beside the package uses a part that the import takes away: user, item, part. `mixed` are packed items as they
    would be there, of which something stays as the target has it; `renamed` is what the crosswalk says of items that
    go by another key there.
    """

    name: str
    account: str
    rows: Mapping[Key, Listed]
    sheets: Mapping[str, KindSheet]
    features: frozenset[str] | None
    permissions: frozenset[str]
    mapped: tuple[Mapped, ...]
    doubtful: tuple[tuple[Key, Listed], ...] = ()
    present: Mapping[Key, Item] = field(default_factory=dict)
    roles: Mapping[str, frozenset[str]] = field(default_factory=dict)
    lacks: Lacks = frozenset()
    region: str = ""
    release: str = ""
    limits: Limits = field(default_factory=Limits)
    is_stepwise: bool = True
    reach: Mapping[str, Reach] = field(default_factory=dict)
    dropped: tuple[Key, ...] = ()
    shared: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)
    planned: tuple[Planned, ...] = ()
    gone_users: Mapping[Key, tuple[Key, ...]] = field(default_factory=dict)
    has_unique_names: bool = True
    converted: tuple[Converted, ...] = ()
    of_others: Mapping[Key, str] = field(default_factory=dict)
    turned: frozenset[Key] = frozenset()
    severed: tuple[tuple[Key, Key, str], ...] = ()
    mixed: Mapping[Key, Item] = field(default_factory=dict)
    renamed: Mapping[Key, Key] = field(default_factory=dict)


@dataclass(frozen=True)
class CheckContext:
    """Everything for one run of the rules, for one target or none. `signature` is the word for what the
    package's signature is worth, empty where nobody looked."""

    contents: Contents
    sheets: Mapping[str, KindSheet]
    target: TargetIndex | None = None
    guard: Guard = STRICT
    signature: str = ""
    is_signature_required: bool = False
    source_urls: tuple[str, ...] = ()
    known_minor: int = 0
    kept: dict[str, object] = field(default_factory=dict, init=False, compare=False)
    _last: dict[str, Any] = field(default_factory=dict, init=False, compare=False)

    def finding(
        self,
        rule: str,
        level: Level,
        message: str,
        *,
        item: Key = "",
        place: str = "",
        next_step: NextStep = NOTHING,
        mark: str = "",
        lacks: Key = "",
    ) -> Finding:
        """A finding for this target."""
        phrase = self._phrase(item, place)
        return Finding(rule, level, message, item, place, next_step, self.name, phrase, mark, lacks)

    def _phrase(self, key: Key, place: str) -> str:
        item = self.contents.items.get(key)
        sheet = self.sheets.get(item.kind) if item else None
        if item is None or sheet is None or not place:
            return place
        # Findings come item by item: the form that was parsed last serves all of one item's.
        if self._last.get("key") != key:
            self._last.update(key=key, form=item.form)
        try:
            return write_pointer(named_pointer(self._last["form"], sheet, parse_pointer(place)))
        # A place in a form that isn't as its sheet says is told as it is, and what is wrong is another finding.
        except (LookupError, ValueError, TypeError):
            return place

    @property
    def retry(self) -> NextStep:
        """How to export again what the package holds: the items that no other item in it uses."""
        return self.retry_without("")

    def retry_without(self, left: Key) -> NextStep:
        """The same without one of the items."""
        base, copy = taken_apart(self.contents.name)
        if copy:
            # The copy follows the package: what is packed anew is that.
            return to_type("check", base, self.name or blank("ENVIRONMENT"))
        # The roots alone: what they use comes along by itself, and the line stays one that people can read.
        used = {key for item in self.contents.items.values() for key in item.uses() if item.key != left}
        kept = sorted(self.contents.items.keys() - {left})
        roots = [key for key in kept if key not in used] or kept
        return to_type("export", self.contents.source, *roots, "--as", self.contents.name)

    @cached_property
    def references(self) -> list[tuple[Item, TokenPlace, Token]]:
        """Every place at which an item refers to another, or to nothing."""
        return [
            (item, place, token)
            for _, item in sorted(self.contents.items.items())
            for place, token in item.tokens
            if token.kind not in _NO_REFERENCES
        ]

    @cached_property
    def declared(self) -> list[tuple[Item, TokenPlace, Token, Spot]]:
        """The references that stand as a whole value, with the role that their place has in the kind sheet."""
        # Simple sheets know a place by its steps alone; for filters the form is parsed, once an item.
        found = []
        for _, item in sorted(self.contents.items.items()):
            sheet = self.sheets.get(item.kind)
            if sheet is None:
                continue
            places, form = sheet.places, None if sheet.places.is_simple else item.form
            found += [
                (item, place, token, places.spot_of(form, place.pointer))
                for place, token in item.tokens
                if not place.in_text and token.kind not in _NO_REFERENCES
            ]
        return found

    @cached_property
    def planned(self) -> Mapping[Key, Planned]:
        """What the import would do, by item; every item a creation where nobody has compared yet."""
        if self.target is None:
            return {}
        return {one.key: one for one in self.target.planned}

    @cached_property
    def mapped(self) -> Mapping[Key, Mapped]:
        """The needs as they stand in the target."""
        return {one.need.key: one for one in self.target.mapped} if self.target else {}

    @property
    def name(self) -> str:
        """The target's name; empty where a package is looked at by itself."""
        return self.target.name if self.target else ""

    def title(self, key: Key) -> str:
        """An item as a person would call it."""
        item = self.contents.items.get(key)
        return repr(item.states.title) if item else readable(key)

    def written(self) -> Iterator[Item]:
        """The items that the import would create or update."""
        for key, item in sorted(self.contents.items.items()):
            planned = self.planned.get(key)
            if planned is None or planned.do in ("create", "update"):
                yield item


def named(titles: list[str], most: int = 3) -> str:
    """The first few of several, and how many more there are."""
    more = f" and {len(titles) - most} more" if len(titles) > most else ""
    return ", ".join(titles[:most]) + more
