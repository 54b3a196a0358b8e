"""Surveying: what is in an environment, in which condition, and what uses what."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import field

from amphora.core.form.kinds import KindSheet
from amphora.core.form.references import counts, quick_references
from amphora.core.form.spots import named_pointer
from amphora.core.needs.selection import choose, the_one
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json, Listed
from amphora.core.values.moments import moment
from amphora.core.values.next_step import to_type
from amphora.core.values.pace import uncollected
from amphora.core.values.pointers import parse_pointer, write_pointer
from amphora.core.values.strict_json import compact_bytes
from amphora.engine.session import Session, utc_now
from amphora.engine.sides import own_side, read_items

SORTS = ("key", "title", "changed", "rows", "size", "uses", "used-by")


@dataclass(frozen=True)
class Surveyed:
    """One item of a survey. `uses` and `used_by` count items of the same environment; `size_bytes` is
    that of the definition as JSON. `form` is the portable definition, of items that were asked for."""

    key: Key
    listed: Listed
    uses: int
    used_by: int
    size_bytes: int
    form: Json = None


def survey(
    session: Session,
    environment: str,
    wanted: Sequence[str] = (),
    *,
    drafts: bool = False,
    changed_since: str = "",
    sort: str = "key",
) -> list[Surveyed]:
    """The chosen items (all, if none is named), filtered and sorted."""
    if sort not in SORTS:
        raise UsageFault(f"--sort is one of {', '.join(SORTS)}, not {sort!r}.", next_step=to_type("survey", "--help"))
    since = moment(changed_since, utc_now(), "--changed-since") if changed_since else ""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    uses: dict[Key, set[Key]] = {}
    sizes: dict[Key, int] = {}
    with uncollected():
        for found in side.opened.environment.read(list(side.keys), "draft"):
            key = side.keys[found.listed.native_id]
            sheet = side.opened.description.sheets.get(found.listed.kind)
            uses[key] = quick_references(found.definition, side.names, key, sheet)
            sizes[key] = len(compact_bytes(found.definition))
    used_by = counts(uses)
    chosen = choose(wanted, side.by_key, environment) if wanted else sorted(side.by_key)
    items = read_items(side, chosen, "draft", binds_new=True)[0] if wanted else {}
    forms = {key: item.form for key, item in items.items()}
    rows = [
        Surveyed(key, side.by_key[key], len(uses[key]), used_by.get(key, 0), sizes[key], forms.get(key))
        for key in chosen
    ]
    rows = [row for row in rows if not drafts or row.listed.has_draft or row.listed.is_drafted_only]
    rows = [row for row in rows if (row.listed.modified_at or "") >= since]
    return sorted(rows, key=_ORDER[sort])


_ORDER = {
    "key": lambda row: row.key,
    "title": lambda row: row.listed.states.title.casefold(),
    "changed": lambda row: (_reversed(row.listed.modified_at or ""), row.key),
    "rows": lambda row: (-(row.listed.rows or 0), row.key),
    "size": lambda row: (-row.size_bytes, row.key),
    "uses": lambda row: (-row.uses, row.key),
    "used-by": lambda row: (-row.used_by, row.key),
}


def _reversed(text: str) -> list[int]:
    """Sorts texts backwards: the latest time first."""
    # The latest first and the unknown last, in one sort.
    return [-ord(letter) for letter in text] or [1]


@dataclass(frozen=True)
class Uses:
    """One item in the net of references: `direct` gives, per item, what it uses with the places; `shapes` the
    outline of each kind."""

    environment: str
    start: Key
    titles: Mapping[Key, str]
    direct: Mapping[Key, Mapping[Key, Sequence[str]]]
    shapes: Mapping[str, str] = field(default_factory=dict)

    def reached(self, backwards: bool, depth: int | None) -> dict[Key, int]:
        """Everything that is used (or, backwards, that uses it), with the least number of steps."""
        net = self.inverse() if backwards else self.direct
        found = {self.start: 0}
        # Breadth first: the least number of steps is wanted, and circles end by themselves.
        waiting = [self.start]
        while waiting:
            key = waiting.pop(0)
            if depth is not None and found[key] >= depth:
                continue
            for other in sorted(net.get(key, {})):
                if other not in found:
                    found[other] = found[key] + 1
                    waiting.append(other)
        return found

    def inverse(self) -> dict[Key, dict[Key, Sequence[str]]]:
        """What uses each item, with the places in the user."""
        result: dict[Key, dict[Key, Sequence[str]]] = {}
        for user, used in self.direct.items():
            for key, places in used.items():
                result.setdefault(key, {})[user] = places
        return result


def uses_of(session: Session, environment: str, name: str) -> Uses:
    """The net around one item, from the definitions as they are now (drafts, where there are some)."""
    side = own_side(session.open(environment), session.ledger, session.crosswalk)
    start = the_one(name, side.by_key, environment)
    session.listener(f"reading {environment}", 0, len(side.by_key))
    # Drafts where there are some: what somebody is building uses things too, and deleting those would break it.
    items, _, _ = read_items(side, sorted(side.by_key), "draft", binds_new=True)
    titles = {key: row.states.title for key, row in side.by_key.items()}
    sheets = side.opened.description.sheets
    direct = {key: _places(item, sheets[item.kind], side.by_key) for key, item in items.items()}
    shapes = {kind: sheet.shape for kind, sheet in sheets.items()}
    return Uses(environment, start, titles, direct, shapes)


def _places(item: Item, sheet: KindSheet, known: Collection[Key]) -> dict[Key, list[str]]:
    found: dict[Key, list[str]] = {}
    for place, token in item.tokens:
        if token.is_item and token.key != item.key and token.key in known:
            named = named_pointer(item.form, sheet, parse_pointer(place.pointer))
            found.setdefault(token.key, []).append(write_pointer(named))
    return found
