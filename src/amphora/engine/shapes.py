"""Shapes: what was written down of an item when its kind had another shape, in the one that it has now."""

from __future__ import annotations

from dataclasses import replace

from amphora.core.form.again import read_again, reads_again, states_again
from amphora.core.form.routes import Routes, form_through, routes_to
from amphora.core.merge.compare import Base
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.model import Json
from amphora.engine.sides import Side
from amphora.ledger.records import Delivery


class Shapes:
    """The shapes of one environment: takes what the ledger remembers to them."""

    def __init__(self, side: Side) -> None:
        self._sheets = side.opened.description.sheets
        self._ids = {kind: sheet.ids for kind, sheet in self._sheets.items()}
        self._names = side.names
        self._routes: Routes | None = None

    def base(self, key: Key, base: Base) -> Base | None:
        """A base in the present shape; None where it has no room for it, or no way leads to it."""
        if not self._is_other(key, base.schema):
            return self._as_read(key, base)
        form = self._form(key, base.schema, base.form)
        schema = self._sheets[kind_of(key)].schema
        return None if form is None else self._as_read(key, replace(base, _form=form, schema=schema))

    def delivery(self, delivery: Delivery) -> Delivery:
        """A delivery likewise; as it was where there is no way."""
        key, schema = delivery.key, delivery.base.schema
        base, merged = self.base(key, delivery.base), delivery.merged
        if self._is_other(key, schema):
            merged = self._form(key, schema, merged)
        if base is None or merged is None:
            return delivery
        left = self._as_read(key, Base(merged, delivery.merged_states, base.bindings))
        return replace(delivery, base=base, merged=left.form, merged_states=left.states)

    def _as_read(self, key: Key, base: Base) -> Base:
        """What was written down, as the sheet of today reads it: it may say since that a member is volatile."""
        sheet = self._sheets.get(kind_of(key))
        if sheet is None or not reads_again(sheet):
            return base
        again = read_again(base.form, sheet, self._ids, self._names)
        if again.form == base.form:
            return base
        return replace(base, _form=again.form, states=states_again(base.states, again))

    def _is_other(self, key: Key, schema: int | None) -> bool:
        sheet = self._sheets.get(kind_of(key))
        return schema is not None and sheet is not None and sheet.schema != schema

    def _form(self, key: Key, schema: int | None, form: Json) -> Json:
        if self._routes is None:
            self._routes = routes_to(self._sheets, ())
        leaps = self._routes.get((kind_of(key), schema or 0))
        if leaps is None or leaps[-1].to[0] != kind_of(key):
            return None
        form, traces = form_through(leaps, form)
        return None if traces.unfit else form
