"""Routes: how items of one version of their kind's shape come to the version that a target has, over as many steps
as there are between them, forwards or back."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import replace

from amphora.core.form.conversions import (
    Conversion,
    Traces,
    backwards,
    forwards,
    layout_backwards,
    layout_forwards,
)
from amphora.core.form.kinds import KindSheet
from amphora.core.form.new_keys import with_keys
from amphora.core.values.keys import Key, kind_of, path_of
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item, Json
from amphora.core.values.words import counted

Shape = tuple[str, int]
"""A kind, and a version of its shape."""


@dataclass(frozen=True)
class Leap:
    """One conversion in one direction."""

    rule: Conversion
    to: Shape
    is_forward: bool


@dataclass(frozen=True)
class Converted:
    """What became of one item, under the key that it has now: its shape before and after, how many fields were moved,
    split and filled, and what was dropped, as (place, value). `unfit` are the places for which the target's shape has
    no room, with the reason: such an item stays as it is, and can't be imported."""

    key: Key
    before: Shape
    after: Shape
    moved: int = 0
    split: int = 0
    filled: int = 0
    dropped: tuple[tuple[str, Json], ...] = ()
    unfit: tuple[tuple[str, str], ...] = ()

    @property
    def packed_key(self) -> Key:
        """The key that it has in its package, by which commands know it."""
        return f"{self.before[0]}:{path_of(self.key)}"


Routes = Mapping[Shape, tuple[Leap, ...]]
"""For each shape that has a way to one that the target has: the steps of the shortest."""


def routes_to(wanted: Mapping[str, KindSheet], packed: Iterable[KindSheet]) -> Routes:
    """All ways to the shapes of these sheets, by their own conversions and those of a package's sheets; where both
    know a step, the target's counts."""
    backward: dict[Shape, list[tuple[Shape, Conversion, bool]]] = {}
    known: set[tuple[Shape, Shape]] = set()
    for sheet in (*wanted.values(), *packed):
        for kind, rule in _named(sheet):
            older, newer = (rule.renames or kind, rule.since), (kind, rule.to)
            # The target's own rule comes first, and so it is the one that counts.
            if (older, newer) in known:
                continue
            known.add((older, newer))
            backward.setdefault(newer, []).append((older, rule, True))
            backward.setdefault(older, []).append((newer, rule, False))
    # From the goals outwards, so that the first way that is found is the shortest.
    found: dict[Shape, tuple[Leap, ...]] = {
        (kind, sheet.schema): () for kind, sheet in wanted.items() if sheet.is_carried
    }
    border = list(found)
    while border:
        reached = border.pop(0)
        for shape, rule, is_forward in backward.get(reached, ()):
            if shape not in found:
                found[shape] = (Leap(rule, reached, is_forward), *found[reached])
                border.append(shape)
    return {shape: leaps for shape, leaps in found.items() if leaps}


def _named(sheet: KindSheet) -> Iterator[tuple[str, Conversion]]:
    """A sheet's conversions, each with what the kind is called after it: the oldest may be two names ago."""
    kind = sheet.kind
    for rule in sorted(sheet.conversions, key=lambda one: -one.to):
        yield kind, rule
        kind = rule.renames or kind


def form_through(leaps: Iterable[Leap], form: Json) -> tuple[Json, Traces]:
    """A form taken along a route, with all that was done to it."""
    total = Traces()
    for leap in leaps:
        form, traces = (forwards if leap.is_forward else backwards)(form, leap.rule)
        total.moved += traces.moved
        total.split += traces.split
        total.filled += traces.filled
        total.dropped += traces.dropped
        total.unfit += traces.unfit
    return form, total


def converted_contents(
    contents: Contents, wanted: Mapping[str, KindSheet], packed: Collection[KindSheet]
) -> tuple[Contents, tuple[Converted, ...], dict[Key, Key]]:
    """A package as a target with these sheets would have exported it, with what was done and how keys changed that
    name another kind now. Contents that need no conversion come back as they are."""
    other = [i for i in contents.items.values() if i.kind not in wanted or wanted[i.kind].schema != i.schema]
    routes = routes_to(wanted, packed)
    kinds = _kinds_there(contents, wanted, routes)
    reshaped = {one.kind for one in packed if one.kind not in wanted or wanted[one.kind].schema != one.schema}
    # Nearly always none: then nothing is copied.
    if not other and not reshaped and not kinds:
        return contents, (), {}
    told: list[Converted] = []
    items = dict(contents.items)
    bases = dict(contents.bases)
    keys: dict[Key, Key] = {}
    for item in other:
        leaps = routes.get((item.kind, item.schema))
        # No way there is a finding of its own; the item stays as it was packed, so that it can be told.
        if leaps is None:
            continue
        new, one = _converted(item, leaps)
        told.append(one)
        if new.kind != item.kind:
            keys[item.key] = new.key
        if one.unfit:
            continue
        items[item.key] = new
        if item.key in bases:
            form, traces = form_through(leaps, bases[item.key][0])
            # A base that does not fit is none: then everything that differs is somebody's to decide.
            bases[item.key] = (form, bases[item.key][1])
            if traces.unfit:
                del bases[item.key]
    # A digest of another shape says nothing of what the target has.
    needs = tuple(replace(need, seen="") if need.kind in reshaped | kinds.keys() else need for need in contents.needs)
    contents = replace(contents, items=items, bases=bases, needs=needs)
    # All of a kind go by its other name, those that don't fit as well: what is said of them is said under one.
    return (with_keys(contents, _under(kinds)) if kinds else contents), tuple(told), keys


def keys_there(
    contents: Contents, wanted: Mapping[str, KindSheet], packed: Iterable[KindSheet]
) -> Callable[[Key], Key]:
    """How a target with these sheets calls what a package holds and refers to."""
    return _under(_kinds_there(contents, wanted, routes_to(wanted, packed)))


def _kinds_there(contents: Contents, wanted: Mapping[str, KindSheet], routes: Routes) -> dict[str, str]:
    """The kinds that a target with these sheets calls otherwise, of items and of what they refer to elsewhere."""
    met = {kind_of(need.key) for need in contents.needs} - wanted.keys()
    shapes = {(item.kind, item.schema) for item in contents.items.values()}
    # Of what stays at home nobody wrote down the shape; any that leads to a kind there tells its name.
    shapes |= {shape for shape in routes if shape[0] in met}
    names = {shape[0]: routes[shape][-1].to[0] for shape in sorted(shapes & routes.keys())}
    return {kind: name for kind, name in names.items() if name != kind}


def with_sheets(contents: Contents, sheets: Mapping[str, KindSheet]) -> Contents:
    """Contents with the kind sheets that travel: of the items, and of what they refer to elsewhere where that kind
    had another shape once, perhaps under another name: a target may know it by that."""
    met = {kind_of(need.key) for need in contents.needs} & sheets.keys()
    kinds = {item.kind for item in contents.items.values()} | {kind for kind in met if sheets[kind].conversions}
    return replace(contents, sheets={kind: sheets[kind].source for kind in sorted(kinds)})


def _converted(item: Item, leaps: tuple[Leap, ...]) -> tuple[Item, Converted]:
    form, traces = form_through(leaps, item.form)
    layout = item.layout
    for leap in leaps if layout is not None else ():
        layout = (layout_forwards if leap.is_forward else layout_backwards)(layout, leap.rule)
    kind, schema = leaps[-1].to
    key = f"{kind}:{path_of(item.key)}"
    told = Converted(
        key,
        (item.kind, item.schema),
        (kind, schema),
        traces.moved,
        traces.split,
        traces.filled,
        tuple(traces.dropped),
        tuple(traces.unfit),
    )
    return replace(item, key=key, schema=schema, _form=form, _layout=layout), told


def told(converted: Iterable[Converted]) -> list[str]:
    """What was done, in a line for each pair of shapes."""
    groups: dict[tuple[Shape, Shape], list[Converted]] = {}
    for one in converted:
        if not one.unfit:
            groups.setdefault((one.before, one.after), []).append(one)
    lines = []
    for (before, after), mine in sorted(groups.items()):
        name = before[0] if before[0] == after[0] else f"{before[0]} becomes {after[0]}"
        # Only what happened: four noughts would hide the one that is none.
        counts = [
            (sum(one.moved for one in mine), "moved"),
            (sum(one.split for one in mine), "split"),
            (sum(one.filled for one in mine), "filled in" if after[1] > before[1] else "left to the default"),
            (sum(len(one.dropped) for one in mine), "dropped"),
        ]
        done = ", ".join(f"{counted(count, 'field')} {word}" for count, word in counts if count)
        lines.append(f"{name}, schema {before[1]} to {after[1]}: {counted(len(mine), 'item')}, {done or 'as it is'}")
    return lines


def _under(kinds: Mapping[str, str]) -> Callable[[Key], Key]:
    """How keys of some kinds are called under those kinds' other names."""

    def renamed(key: Key) -> Key:
        kind = kind_of(key)
        return f"{kinds[kind]}:{path_of(key)}" if kind in kinds else key

    return renamed
