"""Three-way merge of portable forms: who changed which field, and what comes of it."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from enum import StrEnum
from typing import Final

from amphora.core.form.bindings import MISSING
from amphora.core.form.places import Walk
from amphora.core.form.spots import ORDER, named_elements
from amphora.core.merge.lines import merge_texts
from amphora.core.values.canon import same
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer
from amphora.core.values.tokens import is_secret


class By(StrEnum):
    """Who changed a field since it was last delivered."""

    PACKAGE = "package"
    TARGET = "target"
    CROSSWALK = "crosswalk"
    BOTH = "both alike"
    LINES = "both, in different lines"
    CLASH = "both, differently"
    UNKNOWN = "unknown origin"


NEEDS_CHOICE: Final = frozenset({By.CLASH, By.UNKNOWN})
PACKAGE: Final = "package"
TARGET: Final = "target"
LAST_DELIVERED: Final = "last-delivered"


@dataclass(frozen=True)
class FieldChange:
    """One field that differs somewhere. `place` is a pointer in which elements of named arrays stand by
    name; a state stands as `state:on`. The three values are MISSING where the field is absent."""

    place: str
    by: By
    last_delivered: Json
    target: Json
    package: Json
    choice: Json = None

    @property
    def sides(self) -> str:
        """The three values as one text: equal for the same question."""
        # In a list, because null is a value of its own and must not be taken for an absent one.
        values = [None if v is MISSING else [v] for v in (self.last_delivered, self.target, self.package)]
        return json.dumps(values, sort_keys=True, ensure_ascii=False)

    @property
    def is_open(self) -> bool:
        """Whether somebody has to say what becomes of it."""
        return self.by in NEEDS_CHOICE and self.choice is None


Chooser = Callable[[str, By], Json]
"""Gives the choice for a place: `package`, `target`, `last-delivered`, {"value": …} or None."""


def no_choice(place: str, by: By) -> Json:
    """The chooser that leaves every question open."""
    return None


_DIFFERENCE: Final = {
    PACKAGE: frozenset({By.TARGET, By.CLASH, By.UNKNOWN, By.LINES}),
    TARGET: frozenset({By.PACKAGE, By.CROSSWALK, By.CLASH, By.UNKNOWN, By.LINES}),
    LAST_DELIVERED: frozenset({By.PACKAGE, By.TARGET, By.CROSSWALK, By.CLASH, By.LINES}),
}
"""Where a choice for a whole item makes a difference."""


def field_choices(whole: Json, single: Mapping[str, Json]) -> Chooser:
    """The chooser for the choices that somebody made: for single places, and for the whole item wherever that
    makes a difference."""

    def choose(place: str, by: By) -> Json:
        # A choice for the whole item is no answer where it makes no difference: it would turn every field that nobody
        # touched into a decision in the docket.
        return single.get(place, whole if by in _DIFFERENCE.get(whole, ()) else None)

    return choose


@dataclass
class Merge:
    """Merges field by field and keeps a list of what differed.

    Without a base (`has_base` false) a differing field is of unknown origin. An open question leaves
    the target's value in place. Secrets are never compared: the target keeps its own.
    """

    has_base: bool
    choose: Chooser
    changes: list[FieldChange]

    def merge(self, base: Json, target: Json, package: Json, walk: Walk, at: Pointer = ()) -> Json:
        """The merged value; appends to `changes`."""
        if _is_secret(package, walk) or (_is_secret(target, walk) and package is MISSING):
            # The package only names the secret, and the value in the target is laid under it when it is written.
            return target if package is MISSING else package
        # A side that lacks the value altogether doesn't keep the others from being compared member by member.
        sides = [side for side in (base, target, package) if side is not MISSING]
        is_on_both = target is not MISSING and package is not MISSING
        if is_on_both and all(isinstance(side, dict) for side in sides):
            return self._objects({} if base is MISSING else base, target, package, walk, at)
        # Arrays are compared by name only where all elements have one, each its own. With a single nameless one the
        # pairs would be a guess, and then the array is one value: both of its versions are shown.
        member = walk.spot.named_by
        if member and is_on_both and all(_is_named(side, member) for side in sides):
            return self._named(base if base is not MISSING else [], target, package, member, walk, at)
        return self._leaf(base, target, package, write_pointer(at), walk.spot.is_text)

    def _objects(
        self,
        base: dict[str, Json],
        target: dict[str, Json],
        package: dict[str, Json],
        walk: Walk,
        at: Pointer,
    ) -> Json:
        result = {}
        # The target's order of members leads: JSON objects have none, but people who look at the definition there
        # would find it shuffled after every import.
        for name in dict.fromkeys([*target, *package, *base]):
            merged = self.merge(
                base.get(name, MISSING),
                target.get(name, MISSING),
                package.get(name, MISSING),
                walk.step(name),
                (*at, name),
            )
            if merged is not MISSING:
                result[name] = merged
        return result

    def _named(
        self, base: list[Json], target: list[Json], package: list[Json], member: str, walk: Walk, at: Pointer
    ) -> Json:
        sides = [{part[member]: part for part in side} for side in (base, target, package)]
        # All elements of a named array play the same role, so that one position in the sheet serves for all.
        inside = walk.step("0")
        merged: dict[str, Json] = {}
        for name in dict.fromkeys([*sides[2], *sides[1], *sides[0]]):
            values = [side.get(name, MISSING) for side in sides]
            value = self.merge(values[0], values[1], values[2], inside, (*at, name))
            if value is not MISSING:
                merged[name] = value
        # The order says nothing, so that it must not differ by who was merged into whom either.
        if walk.spot.is_unordered:
            return [merged[name] for name in sorted(merged)]
        orders = [list(side) for side in sides]
        order = self._order(orders, write_pointer(at))
        return [merged[name] for name in order if name in merged]

    def _order(self, orders: list[list[str]], at: str) -> list[str]:
        """The order of a named array: of the side that moved its elements; a clash where both did, differently."""
        # Only elements that all sides have can have been moved; what is new or gone says nothing about an order.
        present = [set(order) for order in orders if order or self.has_base]
        common = set.intersection(*present) if present else set()
        base, target, package = ([name for name in order if name in common] for order in orders)
        # Its own place: somebody may want the package's elements and the target's order of them.
        place = at + ORDER
        whole = merged_order(orders[0] if self.has_base else orders[1], orders[1], orders[2])
        # Both have the same order already, whoever moved them.
        if target == package:
            return whole
        if not self.has_base:
            by = By.UNKNOWN  # nothing tells who moved them
        elif target == base:
            by = By.PACKAGE
        else:
            by = By.TARGET if package == base else By.CLASH
        choice = self.choose(place, by)
        self.changes.append(FieldChange(place, by, base, target, package, choice))
        lead = chosen_value(by, choice, orders[0], orders[1], orders[2])
        # The package before the base: what was removed on both sides is in neither, and what only the base has may
        # still be wanted by a choice of `last-delivered`.
        rest = [orders[2], orders[1], orders[0]]
        # An open question leaves the target's order, but what is new on the other side has to stand somewhere all the
        # same: behind the element that it follows there.
        return whole if choice is None and by not in NEEDS_CHOICE else ordered_by(lead, rest)

    def _leaf(self, base: Json, target: Json, package: Json, place: str, is_text: bool) -> Json:
        # Both sides did the same, or nobody did anything: there is nothing to decide in either case, and a choice
        # would make no difference.
        if equal(target, package):
            # Told all the same: whoever mended something on the far side wants to see that the source has the same
            # now.
            if self.has_base and not equal(base, target):
                self.changes.append(FieldChange(place, By.BOTH, base, target, package))
            return target
        merged = None
        # Without a base the target's value may be somebody's repair just as well as an old delivery: only a person
        # knows which of the two it is.
        if not self.has_base:
            by = By.UNKNOWN
        elif equal(base, target):
            by = By.PACKAGE
        elif equal(base, package):
            by = By.TARGET
        else:
            sides = (base, target, package)
            merged = merge_texts(*sides) if is_text and all(isinstance(side, str) for side in sides) else None
            by = By.CLASH if merged is None else By.LINES
        choice = self.choose(place, by)
        self.changes.append(FieldChange(place, by, base, target, package, choice))
        if merged is not None and choice is None:
            return merged
        return chosen_value(by, choice, base, target, package)


def ordered_by(lead: list[str], others: list[list[str]]) -> list[str]:
    """All names, in the order of the first list; each other one behind the name that it follows elsewhere."""
    # A chain of followers instead of insertions into a list: linear for arrays of any length.
    after: dict[str | None, str | None] = {}
    before: str | None = None
    for name in lead:
        after[before] = name
        before = name
    after[before] = None
    for other in others:
        before = None
        for name in other:
            if name not in after:
                after[name] = after.get(before)
                after[before] = name
            before = name
    order = []
    here = after.get(None)
    while here is not None:
        order.append(here)
        here = after[here]
    return order


def chosen_value(by: By, choice: Json, base: Json, target: Json, package: Json) -> Json:
    """The value that results; without a choice the one who changed it has it, the target where open."""
    if isinstance(choice, Mapping):
        return choice["value"]
    # The target where nobody has decided: an import that is carried out with open questions would then at least lose
    # nothing. (The gate doesn't let it.)
    default = PACKAGE if by in (By.PACKAGE, By.CROSSWALK) else TARGET
    return {PACKAGE: package, TARGET: target, LAST_DELIVERED: base}[choice or default]


def merged_order(base: list[str], target: list[str], package: list[str]) -> list[str]:
    """The order of named elements: of the side that changed it (the package, if both did), each
    element of the other side behind the one that it followed there."""
    common = set(base) & set(target) & set(package)
    # Relative orders are compared, not positions: an element that was inserted at the top moves nothing.
    is_package_unmoved = [n for n in base if n in common] == [n for n in package if n in common]
    lead, other = (target, package) if is_package_unmoved else (package, target)
    return ordered_by(lead, [other])


def differences(left: Json, right: Json, walk: Walk) -> list[FieldChange]:
    """All fields in which two forms differ; `target` is the left side, `package` the right one."""
    merge = Merge(has_base=False, choose=no_choice, changes=[])
    merge.merge(MISSING, left, right, walk)
    return merge.changes


def _is_named(value: Json, member: str) -> bool:
    return isinstance(value, list) and named_elements(value, member) is not None


def _is_secret(value: Json, walk: Walk) -> bool:
    """Whether a secret stands here, which is never compared; or a bag of secrets, an object in which nothing else
    can stand: an environment that holds none of them has no bag either. Any other object is compared as to
    being there, whatever it holds."""
    if isinstance(value, dict):
        is_bag = walk.children()[1].spot.is_secret
        # An empty bag is no secret: `{}` against nothing has to be told apart, or a platform that insists on the
        # object would refuse what we write.
        return is_bag and bool(value) and all(_is_secret(part, walk.step(name)) for name, part in value.items())
    return is_secret(value)


def equal(left: Json, right: Json) -> bool:
    """Equality of two values either of which may be MISSING."""
    if left is MISSING or right is MISSING:
        return left is right
    return same(left, right)
