"""One side of a transport: an environment's index with keys given, its bindings, and items read from it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import field, replace
from functools import partial

from amphora.core.form.bindings import Bindings
from amphora.core.form.filled import Filled, taken, unfilled
from amphora.core.form.native_ids import closed_id, is_counted
from amphora.core.form.portable import Portable, to_portable
from amphora.core.form.secrets import sealed
from amphora.core.merge.compare import Base
from amphora.core.needs.crosswalk import SECTIONS, Crosswalk, Mapped, MapState, need_key
from amphora.core.needs.matches import Link, Matches, match, own_keys
from amphora.core.needs.supplies import Supplies
from amphora.core.plan.places import new_place, place_of
from amphora.core.values.keys import Key, encode_segment, kind_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Found, Item, Json, Listed, Supply
from amphora.engine.apart import apart
from amphora.engine.session import Opened
from amphora.environments.contract import Take
from amphora.ledger.ledger import Ledger

OWN_ADDRESS = "url:environment"
"""The need that every environment answers by itself: its own base URL."""


@dataclass(frozen=True)
class Side:
    """An environment as one transport sees it. `keys` and `by_key` give every item its key; `names` are
    the bindings with which its definitions are read and written; `filled` is what it made of what was delivered,
    `untaken` what it has not taken of that.
    `turned` are the ids of what was an item when it was delivered, and is one of the environment's own connections by
    now: somebody gave it a password, or a sheet calls it one."""

    opened: Opened
    keys: Mapping[str, Key]
    by_key: Mapping[Key, Listed]
    supplies: tuple[Supply, ...]
    names: Bindings
    filled: Mapping[Key, Sequence[Filled]]
    doubtful: tuple[tuple[Key, Listed], ...] = ()
    turned: Mapping[Key, str] = field(default_factory=dict)
    untaken: Mapping[Key, Sequence[Filled]] = field(default_factory=dict)

    @property
    def as_asked(self) -> Side:
        """The same side as if all had been taken that was asked for: what differs then, somebody has edited."""
        keys = self.filled.keys() | self.untaken.keys()
        filled = {key: [*self.filled.get(key, ()), *self.untaken.get(key, ())] for key in keys}
        return replace(self, filled=filled, untaken={}) if self.untaken else self

    @property
    def name(self) -> str:
        return self.opened.name

    @property
    def uid(self) -> str:
        return self.opened.description.uid


def own_side(opened: Opened, ledger: Ledger, crosswalk: Crosswalk) -> Side:
    """An environment looked at by itself: keys recorded, or made now."""
    rows, uid = opened.environment.index(), opened.description.uid
    links = _links(opened, ledger, rows)
    keys = own_keys(rows, links, uid, partial(crosswalk.renamed, opened.name))
    by_key = {keys[row.native_id]: row for row in rows}
    return _side(opened, Matches(keys, by_key), links, crosswalk, (), _filled_by(opened, ledger))


def target_side(
    opened: Opened,
    ledger: Ledger,
    crosswalk: Crosswalk,
    contents: Contents,
    mapped: Sequence[Mapped],
    same: Collection[Key] = (),
) -> Side:
    """An environment looked at as the target of a package: matched items carry the package's keys. Each of the `same`
    is matched to what stands in its place, where nothing else is known of it."""
    rows, uid = opened.environment.index(), opened.description.uid
    links = _links(opened, ledger, rows)
    own = own_keys(rows, links, uid, partial(crosswalk.renamed, opened.name))

    def matched(renamed: Mapping[Key, Key]) -> Matches:
        return match(contents.items.values(), contents.source_uid, rows, links, uid, renamed, own)

    renamed = crosswalk.renamed(opened.name)
    matches = matched(renamed)
    if missing := [key for key in same if key in contents.items and key not in matches.by_key]:
        places = {place_of(row): own[row.native_id] for row in rows}
        there = {key: places.get(new_place(key, contents.items[key].states)) for key in missing}
        matches = matched({**renamed, **{key: other for key, other in there.items() if other}})
    return with_turned(_side(opened, matches, links, crosswalk, mapped, _filled_by(opened, ledger)))


def _links(opened: Opened, ledger: Ledger, rows: Sequence[Listed]) -> Sequence[Link]:
    """What is recorded of an environment, by the ids that its items have by now: a kind sheet that says since that
    they are counted by themselves calls them otherwise."""
    uid, sheets = opened.description.uid, opened.description.sheets
    links, there = ledger.links(uid), {row.native_id for row in rows}
    if all(link.native_id in there for link in links):
        return links
    counted = [row for row in rows if sheets[row.kind].ids.space]
    now = {(row.kind, str(closed_id(row.native_id, sheets[row.kind].ids))): row.native_id for row in counted}
    known_now = there & {link.native_id for link in links}

    def called(link: Link) -> Link:
        other = now.get((kind_of(link.key), link.native_id), "")
        return replace(link, native_id=other) if other and not {link.native_id, other} & known_now else link

    return [called(link) for link in links]


def with_turned(side: Side) -> Side:
    """The same side, where what was delivered goes on to name what is a connection by now. What is packed anew names
    it as one."""
    for key, native_id in side.turned.items():
        if key not in side.names.values:
            side.names.bind(key, native_id)
    return side


def _filled_by(opened: Opened, ledger: Ledger) -> Mapping[Key, Sequence[Filled]]:
    return ledger.learned(opened.description.uid) if opened.description.capabilities.fills_in else {}


def read_items(
    side: Side,
    keys: Iterable[Key],
    take: Take = "live",
    guides: Mapping[Key, Json] | None = None,
    bases: Mapping[Key, Base] | None = None,
    binds_new: bool = False,
) -> tuple[dict[Key, Item], dict[Key, Found], dict[Key, Portable]]:
    """Items in portable form, with what was found natively and what was noticed on the way. An item
    with a base is read with the bindings that were delivered with it. One that was never published is its draft,
    whatever is to be taken of the others."""
    wanted = list(keys)
    found = _found(side, wanted, take)
    items: dict[Key, Item] = {}
    noticed: dict[Key, Portable] = {}
    for key, one in found.items():
        base = (bases or {}).get(key)
        names = _as_delivered(side.names, base) if base else side.names
        # What was delivered, if anything was: it says which of two tokens with one value was meant.
        guide = _guide(base, (guides or {}).get(key))
        items[key], noticed[key] = portable_item(side, key, one, names, guide, binds_new)
    return items, found, noticed


def _found(side: Side, wanted: Sequence[Key], take: Take) -> dict[Key, Found]:
    drafts = {key for key in wanted if side.by_key[key].is_drafted_only} if take == "live" else set()
    found: dict[Key, Found] = {}
    for keys, how in (([key for key in wanted if key not in drafts], take), (sorted(drafts), "draft")):
        # Together: environments answer one question about many items faster than many questions, and of one moment.
        some = side.opened.environment.read([side.by_key[key].native_id for key in keys], how) if keys else []
        found |= zip(keys, some, strict=True)
    return {key: found[key] for key in wanted}


def _guide(base: Base | None, form: Json) -> Json:
    """What is read by: the delivered form, and the package's where nothing stood in that one yet. Somebody who fills
    in by hand what waited for a pause fills in what the package has."""
    if base is None or form is None:
        return base.form if base else form
    # Nearly always: then no second form has to be walked through.
    return _filled(base.form, form) if b"null" in base.form_bytes else base.form


def _filled(guide: Json, other: Json) -> Json:
    if guide is None:
        return other
    if isinstance(guide, dict) and isinstance(other, dict):
        return {name: _filled(part, other.get(name)) for name, part in guide.items()}
    if isinstance(guide, list) and isinstance(other, list) and len(guide) == len(other):
        return [_filled(part, beside) for part, beside in zip(guide, other, strict=True)]
    return guide


def portable_item(
    side: Side, key: Key, found: Found, names: Bindings, guide: Json, binds_new: bool
) -> tuple[Item, Portable]:
    """One found item in portable form."""
    listed = found.listed
    sheet = side.opened.description.sheets[listed.kind]
    inner = names.inner.get(key, {})
    portable = to_portable(found.definition, sheet, names, key=key, inner=inner, guide=guide, binds_new=binds_new)
    states = listed.states if portable.is_on is None else replace(listed.states, is_on=portable.is_on)
    form = unfilled(portable.form, side.filled[key], sheet.places) if key in side.filled else portable.form
    item = Item(key, sheet.schema, form, states, portable.layout, listed.native_id, listed.link)
    # The one edge at which a definition becomes a form, for whatever command: behind it no secret can be shown or
    # stored by forgetting to look.
    return sealed(item, sheet, side.opened.guard), portable


def form_of(side: Side, base: Base, key: Key, definition: Json) -> Json:
    """The portable form of what an item that was delivered held at another time, by the names of its delivery."""
    found = Found(side.by_key[key], definition)
    return portable_item(side, key, found, _as_delivered(side.names, base), base.form, False)[0].form


def _side(
    opened: Opened,
    matches: Matches,
    links: Sequence[Link],
    crosswalk: Crosswalk,
    mapped: Sequence[Mapped],
    filled: Mapping[Key, Sequence[Filled]],
) -> Side:
    names = Bindings(opened.description.id_style, files_apart=apart(opened.environment))
    for key, row in matches.by_key.items():
        names.bind(key, row.native_id)
        for part in row.parts:
            # Where parts have ids of their own, a reference to one of them is one to its item.
            names.part_owner[part] = key
    # Parts whose ids the environment forced: a matched item keeps the names that its parts had at their source.
    inner = {link.native_id: link.inner for link in links if link.inner}
    for native_id, key in matches.keys.items():
        # By id and not by key: the link remembers the key that it was made under, a match may have given another.
        if native_id in inner:
            names.inner[key] = inner[native_id]
    for one in mapped:
        if one.state is MapState.MAPPED and one.need.kind != "secret":
            names.bind(one.need.key, one.native)
    supplies = tuple(opened.environment.supplies())
    _bind_supplies(names, opened.name, supplies, crosswalk)
    if opened.description.base_url and OWN_ADDRESS not in names.values:
        names.bind(OWN_ADDRESS, opened.description.base_url)
    doubtful = tuple((key, row) for key, row in matches.doubtful if not is_counted(row.native_id))
    offered = {supply.native_id for supply in supplies}
    turned = {one.key: one.native_id for one in links if one.native_id in offered and one.key not in matches.by_key}
    habits = {key: some for key, all_ in filled.items() if (some := taken(all_))}
    untaken = {key: some for key, all_ in filled.items() if (some := [one for one in all_ if one.is_untaken])}
    return Side(opened, matches.keys, matches.by_key, supplies, names, habits, doubtful, turned, untaken)


def _bind_supplies(names: Bindings, environment: str, supplies: Sequence[Supply], crosswalk: Crosswalk) -> None:
    """What the crosswalk calls the supplies of this environment; the others go by their own names."""
    rows: dict[tuple[str, Json], Key] = {}
    for kind in ("connection", "person", "url"):
        for row, cells in crosswalk.rows.get(SECTIONS[kind], {}).items():
            cell = cells.get(environment, cells.get("any"))
            key = need_key(kind, row)
            if isinstance(cell, str) and not cell.startswith("?"):
                # The first row of a value wins, here as in every reading: two rows for one connection are told by
                # `map`.
                rows.setdefault((kind, cell), key)
                if kind == "url" and key not in names.values:
                    names.bind(key, cell)
    offered = Supplies(supplies)
    for supply in supplies:
        # People are named by what stands before the @, as in packages: that is what survives a change of domain.
        own = supply.name.partition("@")[0] if supply.kind == "person" else supply.name
        said = [rows[supply.kind, cell] for cell in offered.cells(supply) if (supply.kind, cell) in rows]
        key = said[0] if said else _free(f"{supply.kind}:{encode_segment(own)}", supply.native_id, names)
        if key not in names.values:
            names.bind(key, supply.native_id)
        # Its name is taken by something else that the crosswalk means: it gets one of its own.
        elif names.values[key] != supply.native_id:
            names.bind(_free(key, supply.native_id, names), supply.native_id)


def _free(key: Key, value: Json, names: Bindings) -> Key:
    number, candidate = 1, key
    while names.values.get(candidate, value) != value:
        number += 1
        candidate = f"{key}~{number}"
    return candidate


def _as_delivered(names: Bindings, base: Base) -> Bindings:
    """The bindings with the delivered values of one item's needs over today's."""
    # Nearly always: then one table serves for all items, and nothing is copied.
    if all(names.values.get(key) == value for key, value in base.bindings.items()):
        return names
    delivered = Bindings(names.style, dict(base.bindings), files_apart=names.files_apart)
    for key, value in names.values.items():
        if key not in base.bindings:
            delivered.bind(key, value)
    # Ids don't change with a crosswalk.
    delivered.inner, delivered.part_owner = names.inner, names.part_owner
    return delivered
