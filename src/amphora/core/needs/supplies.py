"""What an environment offers, and what it is called where people name it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from amphora.core.form.native_ids import IdsOf, opened_id
from amphora.core.values.model import Json, Supply

NAMED_AT_MOST = 4


class Supplies:
    """The connections, settings and people on offer in one environment. `unlisted` are the kinds of which there may
    be others than those that it lists, each with how its ids look."""

    def __init__(self, supplies: Iterable[Supply], unlisted: IdsOf | None = None) -> None:
        self._unlisted = unlisted or {}
        self._kinds: dict[str, list[Supply]] = {}
        for supply in supplies:
            self._kinds.setdefault(supply.kind, []).append(supply)
        every = [one for mine in self._kinds.values() for one in mine]
        self._shared = Counter((one.kind, one.name) for one in every)
        self._unnamed = Counter((one.kind, one.type) for one in every if one.is_unnamed)

    def of(self, kind: str, type_: str = "") -> list[Supply]:
        """All of a kind, those of a type first; else as the environment lists them."""
        return sorted(self._kinds.get(kind, []), key=lambda supply: bool(type_) and supply.type != type_)

    def called(self, supply: Supply) -> str:
        """What a supply is called in a crosswalk: its name, or its native id where it has none or another of its kind
        has the same. Platforms let two connections be called alike, and many leave theirs unnamed."""
        is_its_own = not supply.is_unnamed and self._shared[supply.kind, supply.name] == 1
        return supply.name if is_its_own else supply.native_id

    def cells(self, supply: Supply) -> tuple[str, ...]:
        """All by which a crosswalk may mean this supply and no other. What has no name stands under its type in
        crosswalks of earlier builds."""
        is_alone = supply.is_unnamed and self._unnamed[supply.kind, supply.type] == 1
        return (supply.native_id, self.called(supply), *([supply.type] if is_alone else []))

    def names(self, kind: str, type_: str = "") -> tuple[str, ...]:
        """What all of a kind are called, those of a type first."""
        return tuple(self.called(supply) for supply in self.of(kind, type_))

    def meant(self, kind: str, cell: Json) -> list[Supply]:
        """The supplies that a cell may mean: none, one, or all that share the name in it."""
        by_id = [supply for supply in self.of(kind) if supply.native_id == cell]
        # The id first: it can't be meant for another.
        by_name = by_id or [supply for supply in self.of(kind) if supply.name == cell]
        return by_name or [supply for supply in self.of(kind) if cell in self.cells(supply)]

    def named(self, kind: str, cell: Json) -> list[Supply]:
        """The same of a cell that somebody wrote: where not all are listed that there are, it names one by its id."""
        found = self.meant(kind, cell)
        # Nobody can look whether it is there; and a guess would be a name and no id.
        if found or kind not in self._unlisted or not isinstance(cell, str) or not cell:
            return found
        return [Supply(kind, opened_id(cell, self._unlisted[kind]), cell)]

    def told(self, some: Iterable[Supply]) -> tuple[str, ...]:
        """Supplies as they are shown: what each is called, and what is known of it."""
        return tuple(_told(supply, self.called(supply)) for supply in some)


def _told(supply: Supply, name: str) -> str:
    named = f"named {supply.name}" if supply.name != name else ""
    # The name that an environment gives to what has none begins with its type.
    known = [supply.name] if supply.is_unnamed else [named, supply.type]
    known += [f"of {supply.owner}" if supply.owner else "", "doesn't work" if supply.is_working is False else ""]
    words = ", ".join(word for word in known if word)
    return f"{name} ({words})" if words else name


def lacking(kind: str, cell: Json, environment: str, found: list[Supply]) -> str:
    """Why a cell does not name one supply: there is none, or there are several."""
    if not found:
        return f"{environment} has no {kind} {cell!r}"
    ids = [supply.native_id for supply in found]
    more = f" and {len(ids) - NAMED_AT_MOST} more" if len(ids) > NAMED_AT_MOST else ""
    return f"{environment} has {len(ids)} of the name {cell!r}; by id: {', '.join(ids[:NAMED_AT_MOST])}{more}"
