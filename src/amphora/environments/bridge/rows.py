"""Items that hold rows: read by pages, loaded in pieces, and led to the rows that they name."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import nullcontext
from functools import reduce
from itertools import islice

from amphora.core.form.places import values_at
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.words import counted
from amphora.environments.bridge.adapter import Bridge
from amphora.environments.bridge.answer import Answer
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.parts import RowsPart
from amphora.environments.bridge.paths import changed_at, dropped, text_at
from amphora.environments.bridge.single import Single

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
            raise EnvironmentRefused(f"{native_id} holds {counted(held, 'row')} already.", subject=native_id)
        if part.load is None:
            raise EnvironmentRefused("The bridge sheet doesn't say how rows are loaded.", place=self.sheet.file)
        known = self.row_ids.setdefault(native_id, {})
        found = list(links_of(part, single.newest))
        links = [(at, self._called_here(single, other, comes_back)) for at, other in found]
        own = [at for at, other in found if other == native_id]
        pieces, count = Ordered(part, own, known, single.row.states.title).pieces(rows), 0
        while some := self._next(pieces, count):
            bare = (dropped(row, part.id) if part.id else row for row in some)
            sent = [reduce(lambda row, link: changed_at(row, *link), links, row) for row in bare]
            piece: dict[str, Json] = {**values, "rows": sent, "row": sent[0]}
            with taken(f"{counted(count, 'row')} were there") if count else nullcontext():
                answer = self.client.change(part.load, piece, None if part.load.body is not None else sent)
            with taken("rows were loaded"):
                known |= self._new_ids(part, some, answer)
            count += len(some)
        return count

    def _next(self, pieces: Iterator[list[Json]], count: int) -> list[Json]:
        # Also what can't be read, or be put in an order, is found out in the middle.
        with taken(f"{counted(count, 'row')} were there") if count else nullcontext():
            return next(pieces, [])

    def _new_ids(self, part: RowsPart, rows: Sequence[Json], answer: Answer) -> dict[str, Json]:
        """What rows that were just loaded are called here."""
        if not part.ids:
            return {}
        new = values_at(answer.body, part.ids)
        if len(new) != len(rows):
            raise EnvironmentRefused(
                f"{self.client.base_url} took {counted(len(rows), 'row')}, and names {len(new)}."
            )
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
            # What isn't known is gone at home as well: its own rows come after those that they name.
            return known.get(str(row))

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
            if other := text_at(place, link.of):
                yield at, other


def _in_quotes(name: Json) -> str:
    """A name as it stands between single quotes (RFC 9535, section 2.3.1.1): a column may be called anything."""
    return str("" if name is None else name).replace("\\", "\\\\").replace("'", "\\'")


class Ordered:
    """The rows of an item in pieces, so that each comes after those of the same item that it names: at the places
    `own`. `known` has what was loaded, and grows while the pieces are taken."""

    def __init__(self, part: RowsPart, own: Sequence[str], known: Mapping[str, Json], title: str) -> None:
        self._part, self._own, self._known, self._title = part, own, known, title
        self._waiting: dict[str, Json] = {}

    def pieces(self, rows: Iterator[Json]) -> Iterator[list[Json]]:
        """The pieces. EnvironmentRefused where rows name each other in a circle: one of them would have to be there
        first."""
        ready: list[Json] = []
        for row in rows:
            # Only what has to wait is held: a table may be larger than the memory.
            if self._named(row) <= self._known.keys():
                ready.append(row)
            else:
                self._waiting[text_at(row, self._part.id)] = row
            if len(ready) == self._part.at_once:
                yield ready
                ready = []
        yield from [ready] if ready else []
        # Only now it is known which rows come no more.
        while self._waiting:
            free = [name for name, row in self._waiting.items() if not self._named(row) & self._waiting.keys()]
            if not free:
                raise EnvironmentRefused(
                    f"Rows of {self._title!r} name each other in a circle ({', '.join(sorted(self._waiting)[:3])}).",
                    subject=self._title,
                    next_step=advice("Leave one of these names empty at home, and fill it in here by hand."),
                )
            yield from _pieces(iter([self._waiting.pop(name) for name in free]), self._part.at_once)

    def _named(self, row: Json) -> set[str]:
        """The rows of the same item that a row names."""
        named: set[str] = set()

        def note(value: Json) -> Json:
            named.update([] if value in (None, "") else [str(value)])
            return value

        for at in self._own:
            changed_at(row, at, note)
        return named


def _pieces(rows: Iterator[Json], size: int) -> Iterator[list[Json]]:
    while some := list(islice(rows, size)):
        yield some
