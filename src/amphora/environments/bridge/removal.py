"""What stands in the way of removing items: platforms delete what others use, and take others along, without a
word."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import values_at
from amphora.core.form.spots import reference_values
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.environments.contract import NEXT


@dataclass(frozen=True)
class Standing:
    """An item that is there, with its definitions as it is looked at."""

    native_id: str
    title: str
    sheet: KindSheet
    forms: tuple[Json, ...]

    def uses(self) -> set[str]:
        """The ids of what it refers to."""
        return {value for form in self.forms for _, value, _ in reference_values(form, self.sheet)}


def users(sheets: Collection[KindSheet], kinds: Collection[str]) -> set[str]:
    """The kinds whose items can use items of these kinds."""
    return {s.kind for s in sheets if any(refer.may_name(kind) for refer in s.places.refers for kind in kinds)}


def refuse_danglings(others: Sequence[Standing], leaving: Collection[str]) -> None:
    """EnvironmentRefused where an item that stays uses one that is to go."""
    for other in others:
        if used := sorted(other.uses() & set(leaving)):
            raise EnvironmentRefused(
                f"{used[0]} is used by {other.title!r}.", subject=other.native_id, next_step=NEXT["in-use"]
            )


def refuse_taking(others: Sequence[Standing], takes: Mapping[str, str], leaving: Collection[str]) -> None:
    """EnvironmentRefused where a removal would take items along that nobody named: those that name, at a place, one
    that is to go."""
    for other in others:
        named = {str(value) for form in other.forms for value in values_at(form, takes.get("at", "$"))}
        if other.sheet.kind == takes.get("kind") and named & set(leaving):
            raise EnvironmentRefused(
                f"Removing it would take {other.title!r} along, which nobody named.",
                subject=other.native_id,
                next_step=NEXT["in-use"],
            )


def in_order(items: Sequence[Standing]) -> list[Standing]:
    """What is to go, users before what they use; in a circle as they come."""
    left, done = list(items), list[Standing]()
    while left:
        used = {id_ for item in left for id_ in item.uses() - {item.native_id}}
        free = [item for item in left if item.native_id not in used] or left
        done += free
        left = [item for item in left if item not in free]
    return done
