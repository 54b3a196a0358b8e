"""What was read with another kind sheet, as the sheet of today would have read it.

A sheet learns: an administrator finds out that a member is volatile, is layout, is a switch, holds JSON or a file,
and says so. What was packed or delivered before holds that member in its form all the same, and against a form of
today it would look like an edit that nobody made.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import replace

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.kinds import KindSheet
from amphora.core.form.native_ids import MARK, IdsOf
from amphora.core.form.opened import opened_again
from amphora.core.form.places import Walk
from amphora.core.form.portable import Portable, Reader
from amphora.core.values.model import Contents, Item, Json, States
from amphora.core.values.pointers import Pointer


def read_again(form: Json, sheet: KindSheet, ids: IdsOf | None = None, names: Bindings | None = None) -> Portable:
    """A portable form as this sheet reads it. Tokens and texts stay as they are. With `ids` and `names` of the
    environment that it was written to, so do native ids that nobody took for any: they lead there where these say."""
    if not reads_again(sheet):
        return Portable(form)
    # What is open already stays as it is.
    form = opened_again(form, sheet, ids or {}) if sheet.opens else form
    reader = _Again(names or Bindings(IdStyle("")), frozenset(one.space for one in (ids or {}).values() if one.space))
    again = reader.read(form, sheet.places.walk(form), (), None)
    return Portable(again, reader.layout or None, reader.is_on, reader.files)


def reads_again(sheet: KindSheet) -> bool:
    """Whether what was read with an older sheet of a kind may look otherwise by this one."""
    return sheet.places.has_outside or bool(sheet.opens) or sheet.has_files


def is_seen_otherwise(kind: str, then: Mapping[str, KindSheet], now: Mapping[str, KindSheet]) -> bool:
    """Whether what a platform holds of a kind looks otherwise by other sheets, native ids and what is in strings
    among that: what was written down of it can't be told from what is there then."""
    if kind not in then or kind not in now:
        return False
    return _seen(kind, then) != _seen(kind, now)


def _seen(kind: str, sheets: Mapping[str, KindSheet]) -> list[object]:
    sheet = sheets[kind]
    # A plain reference is seen as it is written, unless what it names is counted by itself.
    named = {to.partition("#")[0] for refer in sheet.places.refers for to in refer.to}
    counted = {one: sheets[one].ids for one in named if one in sheets and sheets[one].ids.space}
    return [sheet.opens, counted, tomllib.loads(sheet.source).get("fields", {}).get("secret")]


def as_read_today(contents: Contents, wanted: Mapping[str, KindSheet]) -> Contents:
    """A package as if the sheets of its target had read it; the same where it was made with these."""
    packed = contents.sheets
    other = {kind: sheet for kind, sheet in wanted.items() if kind in packed and packed[kind] != sheet.source}
    # One that nothing converts to the shape there stays as it was packed, so that it can be told.
    mine = {key: item for key, item in contents.items.items() if item.kind in other}
    items = {key: _item(i, other[i.kind]) for key, i in mine.items() if i.schema == other[i.kind].schema}
    if all(item is contents.items[key] for key, item in items.items()):
        return contents
    bases = {
        key: (read_again(form, wanted[items[key].kind]).form, states)
        for key, (form, states) in contents.bases.items()
        if key in items
    }
    return replace(contents, items={**contents.items, **items}, bases={**contents.bases, **bases})


def states_again(states: States, again: Portable) -> States:
    """States with the switch that was found in a form, where none was known."""
    return states if again.is_on is None or states.is_on is not None else replace(states, is_on=again.is_on)


def _item(item: Item, sheet: KindSheet) -> Item:
    again = read_again(item.form, sheet)
    if again.form == item.form:
        return item
    layout = item.layout if again.layout is None else _with_more(again.layout, item.layout)
    return replace(item, _form=again.form, _layout=layout, states=states_again(item.states, again))


def _with_more(tree: Json, more: Json) -> Json:
    """Two sparse trees as one; where both have a leaf it is that of the second."""
    if not isinstance(tree, dict) or not isinstance(more, dict):
        return tree if more is None else more
    return {name: _with_more(tree.get(name), more.get(name)) for name in {**tree, **more}}


class _Again(Reader):
    """Reads what is in portable form by now. `spaces` is what ids begin with that were opened just now: those of the
    environment at hand."""

    def __init__(self, names: Bindings, spaces: frozenset[str]) -> None:
        super().__init__(names, "", {}, False)
        self._spaces = spaces

    def read(self, value: Json, walk: Walk, at: Pointer, guide: Json) -> Json:
        if walk.spot.is_file and isinstance(value, str) and value.startswith("data:"):
            return self._file(value) or value
        if self._is_id(value, walk):
            return super().read(value, walk, at, guide)
        is_holder = isinstance(value, dict | list) and not walk.spot.is_secret
        return super().read(value, walk, at, guide) if is_holder else value

    def _is_own_text(self, text: str, guide: Json) -> bool:
        return True

    def _is_id(self, value: Json, walk: Walk) -> bool:
        if not isinstance(value, str) or walk.spot.refer is None or walk.spot.is_secret:
            return False
        return MARK in value and value.partition(MARK)[0] in self._spaces

    def _is_dead(self, value: Json, walk: Walk) -> bool:
        return self._is_id(value, walk) and super()._is_dead(value, walk)
