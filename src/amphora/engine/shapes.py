"""Shapes: what was written down of an item when its kind had another shape, in the one that it has now."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from amphora.core.form.kinds import KindSheet
from amphora.core.form.routes import Routes, form_through, routes_to
from amphora.core.merge.compare import Base
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.model import Json
from amphora.ledger.records import Delivery


class Shapes:
    """The shapes of one environment: takes what the ledger remembers to them."""

    def __init__(self, sheets: Mapping[str, KindSheet]) -> None:
        self._sheets = sheets
        self._routes: Routes | None = None

    def base(self, key: Key, base: Base) -> Base | None:
        """A base in the present shape; None where it has no room for it, or no way leads to it."""
        if not self._is_other(key, base.schema):
            return base
        form = self._form(key, base.schema, base.form)
        return None if form is None else replace(base, _form=form, schema=self._sheets[kind_of(key)].schema)

    def delivery(self, delivery: Delivery) -> Delivery:
        """A delivery likewise; as it was where there is no way."""
        schema = delivery.base.schema
        if not self._is_other(delivery.key, schema):
            return delivery
        base, merged = self.base(delivery.key, delivery.base), self._form(delivery.key, schema, delivery.merged)
        return delivery if base is None or merged is None else replace(delivery, base=base, merged=merged)

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
