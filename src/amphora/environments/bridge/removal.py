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


def taken_along(
    others: Sequence[Standing], takes: Sequence[Mapping[str, str]], leaving: Collection[str]
) -> dict[str, str]:
    """The ids of those that a removal takes along, each with the one that takes it: what names, at a place, one that
    is to go."""
    # One of those that take it is enough to be named: it goes with whichever goes first.
    found: dict[str, str] = {}
    for one in takes:
        for other in (other for other in others if other.sheet.kind == one.get("kind")):
            named = {str(value) for form in other.forms for value in values_at(form, one.get("at", "$"))}
            found |= {other.native_id: min(named & set(leaving))} if named & set(leaving) else {}
    return found


def users_of(one: Standing, others: Sequence[Standing]) -> list[Standing]:
    """Those of some items that refer to one of them, that one too if it names itself."""
    return [other for other in others if one.native_id in other.uses()]


def in_order(items: Sequence[Standing], along: Mapping[str, str]) -> list[Standing]:
    """What is to go, users before what they use, and what is taken `along` before what takes it; in a circle as they
    come."""
    left, done = list(items), list[Standing]()
    while left:
        # A circle has no first: then they go as they come, and the platform says whether it takes that.
        used = {id_ for item in left for id_ in (item.uses() | {along.get(item.native_id, "")}) - {item.native_id}}
        free = [item for item in left if item.native_id not in used] or left
        done += free
        left = [item for item in left if item not in free]
    return done
