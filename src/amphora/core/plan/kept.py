"""What is kept of a docket with its run, so that somebody can show half a year later what was done and why."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.plan.actions import Action
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json

MOST_LETTERS = 400
"""Of a value, so much is kept: the whole of it is in the package and in the deliveries."""


@dataclass(frozen=True)
class Change:
    """One field of an item: what it was last delivered as, what stood there, what the package had, who changed it and
    what was chosen, empty where nobody had to choose. Absent sides are None."""

    place: str
    by: str
    last_delivered: str | None
    target: str | None
    package: str | None
    choice: str = ""

    @property
    def sides(self) -> tuple[str | None, str | None, str | None]:
        """The three values: last delivered, there before, in the package."""
        return self.last_delivered, self.target, self.package


@dataclass(frozen=True)
class Line:
    """One item of a docket: what was done with it and why, under which title, what it was called there before, where
    it was in the source, and what changed."""

    key: Key
    do: str
    reason: str
    title: str
    was: str = ""
    old_link: str = ""
    changes: tuple[Change, ...] = ()


def kept_docket(docket: Docket) -> Json:
    """The docket as the ledger keeps it: the plan, the resolved bindings and what was changed, never a secret's
    value."""
    return {
        # Never what was written: that is in the package, and secrets must not come here by any way.
        "steps": [[step.do, list(step.keys)] for step in docket.steps],
        "bindings": {one.need.key: one.native for one in docket.mapped if one.need.kind != "secret"},
        # By the names that people know, too.
        "mapped": {
            one.need.key: one.value for one in docket.mapped if one.need.kind != "secret" and one.native is not None
        },
        "custody": docket.custody.value,
        "fates": {one.key: one.fate.value for one in docket.retirements},
        "items": [_line(action) for action in docket.actions],
        "gone": [
            [one.key, one.fate.value, one.present.states.title, one.present.rows or 0] for one in docket.retirements
        ],
        # Whoever edits after a later import has written over it would otherwise be taken to be the importer.
        "mended": {
            one.key: [one.present.modified_by or "", one.present.modified_at or ""]
            for one in docket.edited
            if one.present
        },
        "findings": [[f.level.value, f.rule, f.item or "", f.message] for f in docket.findings],
    }


def with_leg(kept: Mapping[str, Json], docket: Docket, done: Collection[Key]) -> Json:
    """A kept docket with what its next leg knows better: what has been mapped and decided since it was kept. Items of
    which something is `done` stay as they were told then."""
    leg = kept_docket(docket)
    mine = {line[0]: line for line in leg["items"] if line[0] in docket.legs[0].keys and line[0] not in done}
    newer = {name: {**kept.get(name, {}), **leg[name]} for name in ("bindings", "mapped", "mended")}
    return {**kept, **newer, "items": [mine.get(line[0], line) for line in kept.get("items", ())]}


def lines_of(kept: Mapping[str, Json]) -> list[Line]:
    """The items of a kept docket; none where a build before this one kept it."""
    return [
        Line(key, do, reason, title, was, link, tuple(Change(*change) for change in changes))
        for key, do, reason, title, was, link, changes in kept.get("items", ())
    ]


def retired_of(kept: Mapping[str, Json]) -> list[tuple[Key, str, str, int]]:
    """What the package no longer held: key, what became of it, title, rows."""
    return [(key, fate, title, rows) for key, fate, title, rows in kept.get("gone", ())]


def findings_of(kept: Mapping[str, Json]) -> Sequence[tuple[str, str, str, str]]:
    """What was found before it went in: level, rule, item, words."""
    return [(level, rule, item, words) for level, rule, item, words in kept.get("findings", ())]


def _line(action: Action) -> Json:
    # Empty where it is called the same, so that a record shows only what changed.
    was = action.present.states.title if action.present else ""
    changes = action.comparison.changes if action.comparison else ()
    return [
        action.key,
        action.do.value,
        action.reason,
        action.states.title,
        was if was != action.states.title else "",
        action.item.link,
        [
            [c.place, c.by.value, *map(_cut, (c.last_delivered, c.target, c.package)), _chosen(c.choice)]
            for c in changes
        ],
    ]


def _cut(value: Json) -> str | None:
    if value is MISSING:
        return None
    from json import dumps

    # Without quotes around texts: people read it, and nothing is made of it again.
    text = value if isinstance(value, str) else dumps(value, ensure_ascii=False, sort_keys=True)
    return text if len(text) <= MOST_LETTERS else text[:MOST_LETTERS] + "…"


def _chosen(choice: Json) -> str:
    if choice is None:
        return ""
    return choice if isinstance(choice, str) else _cut(choice.get("value")) or ""
