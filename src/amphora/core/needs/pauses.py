"""Pauses: what has to be in a target before something can be made there by hand, and what can only go in after that.

An import runs in legs. As little as possible goes in before a pause: what something is made from, and what that uses
and the target lacks; everything else waits for the last leg.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import field

from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item

WORD = "word:"
"""Begins what stands among the needs for somebody's word, before the key of the item after which it is awaited."""


@dataclass(frozen=True)
class Legs:
    """`groups` are the keys of the items that go in together, in the order of the legs; `bare` the needs without
    which an item goes in at first, because they are made from it; `makers` what each need that waits is made from;
    `stuck` items that can't be there without what is made from them."""

    groups: tuple[tuple[Key, ...], ...]
    bare: Mapping[Key, frozenset[Key]] = field(default_factory=dict)
    makers: Mapping[Key, Key] = field(default_factory=dict)
    stuck: tuple[tuple[Key, Key], ...] = ()

    def waits_after(self, leg: int) -> list[Key]:
        """The needs that have to be served before the leg after this one begins; the first leg is 0."""
        return sorted(need for need, maker in self.makers.items() if maker in self.groups[leg])


def legs_of(
    items: Mapping[Key, Item],
    new: Iterable[Key],
    mapped: Iterable[Mapped],
    requires: Callable[[Item, Key], bool],
    words: Collection[Key] = (),
) -> Legs:
    """The legs in which items go into a target that lacks the `new` ones. `requires` tells whether an item can't do
    without a need; `words` are items after which somebody has to give their word before anything else goes in."""
    makers = {one.need.key: str(one.value) for one in mapped if one.state is MapState.LATER}
    # Nearly always: then nobody has to know what anything uses.
    if not makers and not words:
        return Legs((tuple(items),))
    lacking = set(new)
    needs = {key: {token.key for _, token in item.tokens} for key, item in items.items()}
    used = set[Key]().union(*needs.values())
    makers = {need: maker for need, maker in makers.items() if need in used and maker in lacking}
    uses = {key: _used(item, lacking, items) for key, item in items.items()}
    for maker in words:
        # As if all else had a need that is served by that word: what goes before is as little as ever.
        later = items.keys() - _below(maker, uses)
        makers |= {WORD + maker: maker} if later else {}
        for key in later:
            needs[key].add(WORD + maker)
    if not makers:
        return Legs((tuple(items),))
    bare: dict[Key, set[Key]] = {}
    stuck: list[tuple[Key, Key]] = []
    for need, maker in sorted(makers.items()):
        # What stands below the maker is there before the need can be: without it at first, or not at all.
        for key in sorted(key for key in _below(maker, uses) if need in needs[key]):
            bare.setdefault(key, set()).add(need)
            if requires(items[key], need):
                stuck.append((key, need))
    # Counted from the end: how many pauses come after an item. What has to be made from a maker comes after it, if
    # only in an item that went in without it.
    after = dict.fromkeys(items, 0) | dict.fromkeys(makers.values(), 1)
    waiting = list(items)
    while waiting:
        key = waiting.pop()
        waits = (needs[key] & makers.keys()) - bare.get(key, set())
        for other, least in [(it, after[key]) for it in uses[key]] + [(makers[it], after[key] + 1) for it in waits]:
            if after[other] >= least:
                continue
            # More pauses than there is anything to make: two things are made from each other.
            if least > len(makers):
                stuck += [(other, need) for need in sorted(waits) if makers[need] == other]
                continue
            after[other] = least
            waiting.append(other)
    last = max(after.values())
    groups = tuple(tuple(key for key in items if last - after[key] == leg) for leg in range(last + 1))
    return Legs(groups, {key: frozenset(found) for key, found in bare.items()}, makers, tuple(dict.fromkeys(stuck)))


def _used(item: Item, lacking: Collection[Key], items: Mapping[Key, Item]) -> set[Key]:
    """What has to go in before an item, or with it: what is new, and what may have to get a part first."""
    used = {token.key for _, token in item.tokens if token.key in lacking or (token.part and token.key in items)}
    return used - {item.key}


def _below(key: Key, uses: Mapping[Key, Collection[Key]]) -> set[Key]:
    """An item with all that it uses, however deep."""
    reached, waiting = {key}, [key]
    while waiting:
        new = set(uses[waiting.pop()]) - reached
        reached |= new
        waiting += new
    return reached
