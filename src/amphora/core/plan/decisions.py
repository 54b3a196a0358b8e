"""Decisions: what somebody said about an import, as a value that travels from the command line or a file to the
docket."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field, replace

from amphora.core.merge.compare import STATE
from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.docket import Custody, IfItFails
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json

LEAVE = "leave"
"""The choice for a whole item that isn't to be part of this import."""

DRAFT = STATE + "draft"
SECRETS = STATE + "secrets"
PUBLICATION = STATE + "first publication"
THERE = STATE + "there"
"""Questions that are about an item and not about a field of it."""

AUTO, KEEP, NEW = "auto", "keep", "new"
"""Which ids new items get where we choose them: the source's where they are free, those in any case, or others."""

IDS = (AUTO, KEEP, NEW)

WITHOUT = ("attachments", "access")
"""What of a package can stay out."""


@dataclass(frozen=True)
class ItemDecision:
    """What was said of one item: `whole` for all of it (a choice, or leave), `places` for single fields."""

    whole: str = ""
    places: Mapping[str, Json] = field(default_factory=dict)

    def on(self, place: str) -> Json:
        """The choice for a place, None where nothing was said."""
        # The particular counts more than the general, in whatever order they were said.
        return self.places.get(place, self.whole or None)


NOTHING_SAID = ItemDecision()


@dataclass(frozen=True)
class Decisions:
    """What was said of an import. `fates` says, by any naming, what becomes of items that the package no longer
    holds; `without` what of the package stays out; `records` that rows are to be loaded. `file` is the
    docket that they were read from."""

    items: Mapping[Key, ItemDecision] = field(default_factory=dict)
    fates: Mapping[str, str] = field(default_factory=dict)
    custody: Custody | None = None
    without: tuple[str, ...] = ()
    records: bool = False
    file: str = ""
    if_it_fails: IfItFails = IfItFails.PUT_BACK
    arrivals: Mapping[Key, Arrival] = field(default_factory=dict)
    ids: str = AUTO
    pause_after: Mapping[Key, str] = field(default_factory=dict)
    """Items after which somebody has to give their word, with what it is about."""
    bring: tuple[Key, ...] = ()
    """Items that come along although they were left out before."""
    same: tuple[Key, ...] = ()
    """Items that are the one that stands in their place there, whatever that was known as."""
    words: tuple[tuple[str, ...], ...] = ()
    """How it was said on the command line, for the commands that come next: each option with its value."""

    def of(self, key: Key) -> ItemDecision:
        """What was said of an item."""
        return self.items.get(key, NOTHING_SAID)

    @property
    def left_out(self) -> list[Key]:
        """The items that are not to be part of the import."""
        return sorted(key for key, mine in self.items.items() if mine.whole == LEAVE)

    def to_json(self) -> Json:
        """For the ledger, where they wait for somebody to go on."""
        return {
            "items": {key: [mine.whole, dict(mine.places)] for key, mine in self.items.items()},
            "fates": dict(self.fates),
            # Words and no enumerations: a ledger has to be readable by builds that know others.
            "custody": self.custody.value if self.custody else "",
            "without": list(self.without),
            "records": self.records,
            "if_it_fails": self.if_it_fails.value,
            "ids": self.ids,
            "same": list(self.same),
            "bring": list(self.bring),
            "pause_after": dict(self.pause_after),
            "arrivals": {key: [one.title, one.folder] for key, one in self.arrivals.items()},
        }

    def is_in(self, kept: Mapping[str, Json]) -> bool:
        """Whether all that is said here stands in what the ledger kept of an import; the usual says nothing."""
        usual, mine = Decisions().to_json(), self.to_json()
        return all(_stands_in(mine[name], kept.get(name)) for name in mine if mine[name] != usual[name])

    @classmethod
    def from_json(cls, table: Json) -> Decisions:
        """The inverse of `to_json`."""
        return cls(
            {key: ItemDecision(whole, places) for key, (whole, places) in table["items"].items()},
            table["fates"],
            Custody(table["custody"]) if table["custody"] else None,
            tuple(table["without"]),
            table["records"],
            if_it_fails=IfItFails(table["if_it_fails"]),
            arrivals={key: Arrival(*pair) for key, pair in table["arrivals"].items()},
            # What came later has a default: a run may have been paused by an older build.
            ids=table.get("ids", AUTO),
            same=tuple(table.get("same", ())),
            bring=tuple(table.get("bring", ())),
            pause_after=table.get("pause_after", {}),
        )

    def under(self, keys: Mapping[Key, Key]) -> Decisions:
        """The same, said of items that go by other keys now."""
        items = {keys.get(key, key): mine for key, mine in self.items.items()}
        arrivals = {keys.get(key, key): one for key, one in self.arrivals.items()}
        same = tuple(keys.get(key, key) for key in self.same)
        words = {keys.get(key, key): about for key, about in self.pause_after.items()}
        bring = tuple(keys.get(key, key) for key in self.bring)
        return replace(self, items=items, arrivals=arrivals, same=same, pause_after=words, bring=bring)

    def left_as_before(self, keys: Iterable[Key]) -> Decisions:
        """The same, with these items left out as they were before, but for those of which something else was said."""
        # What somebody says today counts more than what was said at the import before.
        known = self.items.keys() | set(self.bring)
        left = {key: ItemDecision(LEAVE) for key in keys if key not in known}
        return replace(self, items={**self.items, **left}) if left else self

    def answered(self, answers: Mapping[Key, Mapping[str, Json]]) -> Decisions:
        """The same with further answers, by item and place."""
        items = dict(self.items)
        for key, places in answers.items():
            mine = self.of(key)
            # Added place by place: at a terminal answers come one after the other.
            items[key] = replace(mine, places={**mine.places, **places})
        return replace(self, items=items)


def _stands_in(said: Json, kept: Json) -> bool:
    if isinstance(said, dict) and isinstance(kept, dict):
        return all(name in kept and kept[name] == value for name, value in said.items())
    if isinstance(said, list) and isinstance(kept, list):
        return all(one in kept for one in said)
    return bool(said == kept)
