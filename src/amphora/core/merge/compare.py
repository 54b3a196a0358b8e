"""Comparison of one item on three sides: last delivered, target, package."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from amphora.core.form.bindings import MISSING, Bindings
from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import Places
from amphora.core.form.visit import with_texts
from amphora.core.merge.layout import to_lay
from amphora.core.merge.merge import TARGET, By, Chooser, FieldChange, Merge, differences, equal, no_choice
from amphora.core.values.canon import same
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Folded, Item, Json, States
from amphora.core.values.strict_json import pretty_bytes
from amphora.core.values.tokens import parse_token, render_text, token_for, tokens_in

STATE = "state:"
_NO_ROLES = Places([])


@dataclass(frozen=True)
class Base:
    """What was last delivered: the package's form then (a value, or `Folded`), its states, and the bindings used.
    `schema` is the version of the kind's shape that it has, None where nobody wrote that down; `layout` the layout
    that was laid then, likewise."""

    _form: Json
    states: States
    bindings: Mapping[Key, Json]
    schema: int | None = None
    layout: Json = None

    @property
    def form(self) -> Json:
        """The package's form then."""
        return self._form.value() if isinstance(self._form, Folded) else self._form

    @property
    def form_bytes(self) -> bytes:
        """The form in the fixed layout of packages."""
        return self._form.text if isinstance(self._form, Folded) else pretty_bytes(self._form)


@dataclass(frozen=True)
class Comparison:
    """What differs in one item, and what comes of it if the import is carried out as decided. `layout` is the part of
    the package's layout that has to be laid over the target's, `was_laid` that of the last delivery."""

    key: Key
    changes: tuple[FieldChange, ...]
    form: Json
    states: States
    has_base: bool
    is_layout_moved: bool = False
    target: Json = None
    layout: Json = None
    was_laid: Json = None

    @property
    def open(self) -> list[FieldChange]:
        """The changes on which somebody has to decide."""
        return [change for change in self.changes if change.is_open]

    @property
    def local_edits(self) -> list[FieldChange]:
        """What the target changed by itself since the last delivery."""
        return [change for change in self.changes if change.by in (By.TARGET, By.LINES, By.CLASH)]


def is_given_up(change: FieldChange) -> bool:
    """Whether what somebody changed in the target does not survive."""
    # Where nobody chose, what was edited stays or is in question: neither loses it.
    return change.choice is not None and change.choice != TARGET


def rebound(base: Base, today: Bindings) -> dict[str, Json]:
    """Tokens of needs whose value is no longer the delivered one, with the delivered value."""
    return {
        token_for(key): value
        for key, value in base.bindings.items()
        # A need that today's crosswalk no longer has is no change of value: there is nothing to compare it with, and
        # `check` says that it is open.
        if key in today.values and not same(today.values[key], value)
    }


def compare_item(
    package: Item,
    target: Item,
    base: Base | None,
    sheet: KindSheet,
    today: Bindings,
    choose: Chooser = no_choice,
) -> Comparison:
    """Compares and merges one matched item. The target's form has been made with the base's bindings."""
    # A connection that was mapped anew differs on the side of the crosswalk: with the old value in both forms only
    # what people changed is left to differ.
    was = rebound(base, today) if base else {}
    # Compared with what was laid, and not with what is there: a move of the target alone is none of the package.
    laid = base.layout if base else None
    layout = to_lay(package.layout, laid, sheet.places.walk(package.form))
    moved = package.layout is not None and not same(_shown(package.layout, sheet), _shown(target.layout, sheet))
    if not was and _is_untouched(package, target, base):
        return Comparison(
            package.key, (), target.form, target.states, base is not None, moved, target.form, layout, laid
        )
    old_form = _with_values(base.form, was) if base else MISSING
    target_form = _with_values(target.form, was)
    merge = Merge(base is not None, choose, [])
    form = merge.merge(old_form, target_form, package.form, sheet.places.walk(package.form))
    changes = [_by_crosswalk(change, was) for change in merge.changes]
    states, state_changes = _states(base.states if base else None, target.states, package.states, choose)
    all_changes = (*changes, *state_changes)
    return Comparison(package.key, all_changes, form, states, base is not None, moved, target.form, layout, laid)


def _shown(layout: Json, sheet: KindSheet) -> Json:
    """A layout without the item's place among others: each target has other neighbours, and nobody moved anything."""
    if not isinstance(layout, dict):
        return layout
    # At the top only: an item has one place among others, and what is in it keeps its own.
    walk = sheet.places.walk(layout)
    return {name: part for name, part in layout.items() if not walk.step(name).spot.is_order}


def _is_untouched(package: Item, target: Item, base: Base | None) -> bool:
    """Whether all sides are equal to the byte: then nothing has to be looked at field by field."""
    # States first: they cost nothing, and a switch that was thrown is the commonest local edit.
    if package.states != target.states or (base is not None and base.states != package.states):
        return False
    mine = package.form_bytes
    return mine == target.form_bytes and (base is None or mine == base.form_bytes)


def item_differences(left: Item, right: Item, sheet: KindSheet) -> list[FieldChange]:
    """Two-way: every field and state in which two items differ, without anybody's decision."""
    # The usual answer of a verification, without a walk along the kind sheet.
    if left.states == right.states and same(left.form, right.form):
        return []
    changes = differences(left.form, right.form, sheet.places.walk(right.form))
    _, states = _states(None, left.states, right.states, no_choice)
    return [*changes, *states]


def _states(
    base: States | None, target: States, package: States, choose: Chooser
) -> tuple[States, list[FieldChange]]:
    # States go through the same merge as fields: there is one rule for who wins, and `state:on` is only a name for a
    # place.
    merge = Merge(base is not None, lambda place, by: choose(STATE + place[1:], by), [])
    old = {} if base is None else base.to_json()
    merged: dict[str, Any] = merge.merge(old, target.to_json(), package.to_json(), _NO_ROLES.walk({}))
    named = [replace(change, place=STATE + change.place[1:]) for change in merge.changes]
    return States.from_json(merged), named


def _by_crosswalk(change: FieldChange, was: Mapping[str, Json]) -> FieldChange:
    # With the old values laid in, the package is what it was: then only the crosswalk has changed, and saying "the
    # package" would send people to look for an edit that nobody made.
    if change.by is By.PACKAGE and was and equal(_with_values(change.package, was), change.last_delivered):
        return replace(change, by=By.CROSSWALK)
    return change


def _with_values(form: Json, was: Mapping[str, Json]) -> Json:
    """The form with the given tokens replaced by their delivered values, so that today's differ."""
    if not was:
        return form

    def change(text: str) -> Json:
        if not any(token in was for token, _ in tokens_in(text)):
            return text
        # A whole value keeps its type: a setting's number must not come out as text.
        if parse_token(text):
            return was[text]
        return render_text(text, lambda token: was.get(token, "${" + token + "}"))

    return with_texts(form, change)
