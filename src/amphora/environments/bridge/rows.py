"""Items that hold rows: read by pages, loaded in pieces, and led to the rows that they name."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from functools import reduce
from itertools import islice

from amphora.core.form.places import values_at
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.environments.bridge.adapter import Bridge
from amphora.environments.bridge.client import Answer
from amphora.environments.bridge.items import Single
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.paths import changed_at, dropped, text_at, value_at
from amphora.environments.bridge.sheet import RowsPart

_MEMBER = re.compile(r"\{([^{}]+)\}")


class Holding(Bridge):
    """Items that hold rows."""

    def records(self, native_id: str) -> Iterator[Json]:
        """The rows, without what only the platform writes."""
        part, values = self._holder(native_id)
        for row in self.client.each(part.read, values):
            for path in part.without:
                row = dropped(row, path)
            yield row

    def load(self, native_id: str, rows: Iterator[Json], comes_back: bool = False) -> int:
        """Fills an empty item. Some pieces may be there when a later one is refused: then nobody knows but by
        looking, and whoever made the item removes it with them."""
        part, values = self._holder(native_id)
        single = self.items.singles([native_id])[native_id]
        if held := single.row.rows:
            raise EnvironmentRefused(f"{native_id} holds {held:,} rows already.", subject=native_id)
        if part.load is None:
            raise EnvironmentRefused("The bridge sheet doesn't say how rows are loaded.", place=self.sheet.file)
        known = self.row_ids.setdefault(native_id, {})
        links = [(at, self._called_here(single, other, comes_back)) for at, other in links_of(part, single.newest)]
        count = 0
        for some in _pieces(rows, part.at_once):
            bare = (dropped(row, part.id) if part.id else row for row in some)
            sent = [reduce(lambda row, link: changed_at(row, *link), links, row) for row in bare]
            piece: dict[str, Json] = {**values, "rows": sent, "row": sent[0]}
            with taken(f"{count:,} rows were there") if count else nullcontext():
                answer = self.client.change(part.load, piece, None if part.load.body is not None else sent)
            with taken("rows were loaded"):
                known |= self._new_ids(part, some, answer)
            count += len(some)
        return count

    def _new_ids(self, part: RowsPart, rows: Sequence[Json], answer: Answer) -> dict[str, Json]:
        """What rows that were just loaded are called here."""
        if not part.ids:
            return {}
        new = values_at(answer.body, part.ids)
        if len(new) != len(rows):
            raise EnvironmentRefused(f"{self.client.base_url} took {len(rows)} rows, and names {len(new)}.")
        return {text_at(row, part.id): id_ for row, id_ in zip(rows, new, strict=True)}

    def _called_here(self, single: Single, other: str, comes_back: bool) -> Callable[[Json], Json]:
        """What rows of another item are called here. Refused where nobody knows: a number that means another row here
        would be wrong without anybody noticing."""
        known, title = self.row_ids.get(other), single.row.states.title
        if known is None and not comes_back:
            words = f"Rows of {title!r} name rows of {other}, which are not loaded by the same run"
            raise EnvironmentRefused(
                f"{words}: nobody knows what these are called here.",
                subject=single.row.native_id,
                next_step=advice("Take both along with their rows while they are new, or neither."),
            )

        def called(row: Json) -> Json:
            if known is None or row in (None, ""):
                return row
            if str(row) in known:
                return known[str(row)]
            if other == single.row.native_id:
                # Its own rows come in their order: one that is named before it is there has no name yet.
                raise EnvironmentRefused(f"A row of {title!r} names another one behind it ({row}).", subject=other)
            # It is gone at home as well.
            return None

        return called

    def _holder(self, native_id: str) -> tuple[RowsPart, dict[str, Json]]:
        single = self.items.singles([native_id]).get(native_id)
        part = self._part(single).rows if single else None
        if single is None or part is None:
            raise EnvironmentRefused(f"{native_id} holds no rows.", subject=native_id)
        return part, self._values(single)


def links_of(part: RowsPart, definition: Json) -> Iterator[tuple[str, str]]:
    """Where rows of an item name other rows, and of which item those are."""
    for link in part.links:
        for place in values_at(definition, link.each):
            members = place if isinstance(place, dict) else {}
            at = _MEMBER.sub(lambda found, of=members: _in_quotes(of.get(found[1])), link.at)  # type: ignore[misc]
            if isinstance(other := value_at(place, link.of), str) and other:
                yield at, other


def _in_quotes(name: Json) -> str:
    """A name as it stands between single quotes (RFC 9535, section 2.3.1.1): a column may be called anything."""
    return str("" if name is None else name).replace("\\", "\\\\").replace("'", "\\'")


def _pieces(rows: Iterator[Json], size: int) -> Iterator[list[Json]]:
    while some := list(islice(rows, size)):
        yield some
