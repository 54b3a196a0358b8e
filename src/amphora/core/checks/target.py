"""Rules on the target: does it know these kinds and features, has it room, and may we do what has to be done?"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from amphora.core.checks.context import CheckContext, Rule, TargetIndex, Todo, named
from amphora.core.form.routes import told
from amphora.core.form.spots import feature_values
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.digits import is_number
from amphora.core.values.keys import Key, decode_segment, path_of, readable
from amphora.core.values.model import Finding, Item, Level, Listed
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.rights import not_permitted
from amphora.core.values.strict_json import compact_bytes

FAMILY = "target"
NEAR = 0.9
"""A form of which this share of the greatest size is reached may grow beyond it with the target's own ids."""


def kind_unknown(context: CheckContext) -> Iterable[Finding]:
    """The target has no such kind of item."""
    # One cause, one finding: the same items would be told again here.
    unfit = _unfit(context)
    for kind, items in _by_kind(context).items():
        there = context.target.sheets.get(kind) if context.target else None
        # What was to be converted and can't be has a finding of its own.
        items = [item for item in items if item.key not in unfit]
        # Told once for all of a kind: three hundred lines of one trouble hide the other.
        if context.target and items and (there is None or not there.is_carried):
            message = f"{context.target.name} knows no items of kind {kind!r}; the package holds {len(items)}."
            yield context.finding("kind-unknown", Level.ERROR, message, item=items[0].key)


def schema_other(context: CheckContext) -> Iterable[Finding]:
    """The target has the kind in another version of its shape."""
    for kind, items in _by_kind(context).items():
        there = context.target.sheets.get(kind) if context.target else None
        # What could be converted has the target's shape by now.
        shapes = {item.schema for item in items if item.key not in _unfit(context)}
        other = sorted(shapes - {there.schema}) if there else []
        if context.target and there and other:
            message = f"{kind!r} has schema {other[0]} in the package and {there.schema} in {context.target.name}."
            yield context.finding("schema-other", Level.ERROR, message, item=items[0].key)


def turned(context: CheckContext) -> Iterable[Finding]:
    """What was delivered as an item is one of the target's own connections by now."""
    for key in sorted(context.target.turned) if context.target else ():
        message = f"{readable(key)} is a connection of {context.name}'s own by now, and stays as it is there."
        yield context.finding("item-turned", Level.NOTE, message, item=key)


def converted(context: CheckContext) -> Iterable[Finding]:
    """Items are brought to the shape that the target has."""
    for line in told(context.target.converted) if context.target else ():
        yield context.finding("converted", Level.NOTE, f"{line}, for {context.name}.")


def conversion_drops(context: CheckContext) -> Iterable[Finding]:
    """The target's shape has no field for something that is then left behind."""
    for one in context.target.converted if context.target else ():
        # An item that can't go at all loses nothing on the way.
        for place, value in one.dropped if not one.unfit else ():
            # The value's type and not the value: it may be a long text, and what is lost is named by its place.
            words = "something" if isinstance(value, dict | list) else "a value"
            where = place_phrase(place)
            message = f"{context.title(one.key)} has {words} at {where}, for which {context.name} has no field."
            yield context.finding("conversion-drops", Level.WARNING, message, item=one.key)


def conversion_unfit(context: CheckContext) -> Iterable[Finding]:
    """Something of an item has no place in the shape that the target has."""
    for one in context.target.converted if context.target else ():
        for place, reason in one.unfit:
            where = place_phrase(place)
            message = f"{context.title(one.key)} can't have the shape that {context.name} has: at {where}, {reason}."
            yield context.finding(
                "conversion-unfit",
                Level.ERROR,
                message,
                item=one.key,
                place=place,
                next_step=advice(
                    f"Mend it in {context.contents.source}, or leave it out",
                    to_type("import", context.contents.spoken, context.name, "--leave", one.packed_key),
                ),
            )


def _unfit(context: CheckContext) -> set[Key]:
    return {one.key for one in context.target.converted if one.unfit} if context.target else set()


def feature_missing(context: CheckContext) -> Iterable[Finding]:
    """An item needs a feature (a node type, an extension) that the target doesn't have."""
    # An environment that can't tell what it has is not accused of lacking it.
    if context.target is None or context.target.features is None:
        return
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        wanted = feature_values(item.form, sheet) if sheet and sheet.has_features else set()
        for feature in sorted(wanted - context.target.features):
            yield context.finding(
                "feature-missing",
                Level.ERROR,
                f"{feature!r} is not installed in {context.target.name}.",
                item=key,
            )


def permission_missing(context: CheckContext) -> Iterable[Finding]:
    """The signed-in account may not do what this very import needs."""
    target = context.target
    if target is None:
        return
    missing: dict[str, list[str]] = {}
    wanted: set[str] = {"read"}
    for planned in target.planned:
        # Of what this import does, and not of all that one could do: an update without rows needs no right to load
        # any.
        wanted |= planned.permissions
        for permission in not_permitted(
            {name: [planned.key] for name in planned.permissions}, target.permissions, target.lacks
        ):
            missing.setdefault(permission, []).append(context.title(planned.key))
    # No step reads, but without it not even the preview could be believed.
    if "read" not in target.permissions:
        missing.setdefault("read", [])
    if missing:
        words = [f"{name} (for {named(titles)})" if titles else name for name, titles in sorted(missing.items())]
        details = "; ".join(words)
        role = least_role(target, wanted)
        enough = f" The least role that would do is {role!r}." if role else ""
        yield context.finding(
            "permission-missing",
            Level.ERROR,
            f"{target.account} may not {details} in {target.name}.{enough}",
            next_step=advice(
                f"Ask the owner of {target.name} for {f'role {role}' if role else ', '.join(sorted(missing))},"
                " or sign in with another account."
            ),
        )


def least_role(target: TargetIndex, wanted: set[str]) -> str:
    """The role of the target with the fewest permissions that has all of these; empty if there is none."""
    # The smallest one: whoever asks for more than is needed gets it, and keeps it.
    enough = [(len(may), role) for role, may in target.roles.items() if wanted <= may]
    return min(enough)[1] if enough else ""


def name_taken(context: CheckContext) -> Iterable[Finding]:
    """An unrelated item of the target has the name, in the folder, that an item would get."""
    # Elsewhere two of one name may stand side by side, and nobody is in the way.
    if context.target is None or not context.target.has_unique_names:
        return
    rows = context.target.rows
    wanted: dict[Key, tuple[str, str, str]] = {}
    for item in context.written():
        # What is there keeps its own name in paths: a new title renames the title.
        there = rows.get(item.key)
        segments = there.segments if there else _segments(item)
        wanted[item.key] = (item.kind, item.states.folder, segments[-1] if segments else "")
    mine: dict[tuple[str, str, str], Key] = {}
    held = {_place(row): key for key, row in rows.items()}
    for key, place in wanted.items():
        item, twin = context.contents.items[key], mine.setdefault(place, key)
        if twin != key:
            yield context.finding(
                "name-taken",
                Level.ERROR,
                f"{item.states.title!r} and {context.title(twin)} ({readable(twin)}) would get the same name in"
                f" {item.states.folder or 'the top folder'!r}.",
                item=key,
            )
        holder = held.get(place, key)
        # Whoever holds the place and moves away, or is moved by this very import, is in nobody's way.
        if holder != key and wanted.get(holder, place) == place and (key not in rows or _place(rows[key]) != place):
            yield context.finding(
                "name-taken",
                Level.ERROR,
                f"{item.states.title!r} would get the name of {rows[holder].states.title!r} ({readable(holder)}),"
                f" which {context.target.name} holds in {place[1] or 'its top folder'!r} as another item.",
                item=key,
            )


def id_taken(context: CheckContext) -> Iterable[Finding]:
    """The item's native id stands in the target under another key: is it the same item or not?"""
    for key, row in context.target.doubtful if context.target else ():
        yield context.finding(
            "id-taken",
            Level.WARNING,
            f"{readable(key)} has the id of {row.states.title!r} there; a new item will be made beside it.",
            item=key,
        )


def limit_exceeded(context: CheckContext) -> Iterable[Finding]:
    """The target has no room for as many items of a kind, or for one so large."""
    target = context.target
    if target is None:
        return
    there = Counter(row.kind for row in target.rows.values())
    for kind, items in _by_kind(context).items():
        most = target.limits.items.get(kind)
        # Updates take no further room.
        new = [item for item in items if item.key not in target.rows]
        if most is not None and there[kind] + len(new) > most:
            yield context.finding(
                "limit-exceeded",
                Level.ERROR,
                f"{target.name} holds {there[kind]} of at most {most} items of kind {kind!r}; {len(new)} would be"
                " added.",
                item=new[0].key,
            )
    most_bytes = target.limits.item_bytes
    if most_bytes is None:
        return
    for item in context.written():
        # The cheap look first: an item is measured only if its bytes give a reason to.
        if len(item.form_bytes) > most_bytes * NEAR and (size := len(compact_bytes(item.form))) > most_bytes * NEAR:
            is_over = size > most_bytes
            yield context.finding(
                "limit-exceeded",
                Level.ERROR if is_over else Level.WARNING,
                f"{item.states.title!r} takes {size:,} bytes; {target.name} takes at most {most_bytes:,}.",
                item=item.key,
            )


def release_older(context: CheckContext) -> Iterable[Finding]:
    """The target runs an older release than the source."""
    if context.target is None:
        return
    source, there = _release(context.contents.source_release), _release(context.target.release)
    # Only where both are numbers: releases by name have no order.
    if source and there and there < source:
        yield context.finding(
            "release-older",
            Level.WARNING,
            f"{context.target.name} runs release {context.target.release}; the package is from"
            f" {context.contents.source_release}.",
        )


def _by_kind(context: CheckContext) -> Mapping[str, list[Item]]:
    result: dict[str, list[Item]] = {}
    for _, item in sorted(context.contents.items.items()):
        result.setdefault(item.kind, []).append(item)
    return result


def _place(row: Listed) -> tuple[str, str, str]:
    return row.kind, row.states.folder, row.segments[-1] if row.segments else ""


def _segments(item: Item) -> tuple[str, ...]:
    return tuple(decode_segment(part) for part in path_of(item.key).split("/"))


def _release(text: str) -> tuple[int, ...]:
    # As numbers: 2026.10 comes after 2026.9.
    parts = text.split("-")[0].split(".")
    return tuple(int(part) for part in parts) if all(map(is_number, parts)) else ()


RULES = (
    Rule(
        "kind-unknown",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "The target has no items of this kind.",
        "There is nothing that could take them.",
        kind_unknown,
    ),
    Rule(
        "schema-other",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "The target has the kind in another version of its shape.",
        "Written as it is, the definition would be refused or misread.",
        schema_other,
    ),
    Rule(
        "item-turned",
        FAMILY,
        Level.NOTE,
        Todo.KNOW,
        "What was delivered as an item is one of the target's own connections by now.",
        "Somebody gave it a password there, or a kind sheet calls it a connection since. It is no longer carried.",
        turned,
    ),
    Rule(
        "converted",
        FAMILY,
        Level.NOTE,
        Todo.KNOW,
        "Items are brought to the shape that the target has.",
        "They will look otherwise there than in the source, and mean the same.",
        converted,
    ),
    Rule(
        "conversion-drops",
        FAMILY,
        Level.WARNING,
        Todo.KNOW,
        "The target's shape has no field for something that is then left behind.",
        "It would not come back from there either.",
        conversion_drops,
    ),
    Rule(
        "conversion-unfit",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "Something of an item has no place in the shape that the target has.",
        "Taken there it would be lost without a word.",
        conversion_unfit,
    ),
    Rule(
        "feature-missing",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "An item needs a feature (a node type, an extension) that the target doesn't have.",
        "It would arrive and not start.",
        feature_missing,
    ),
    Rule(
        "permission-missing",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "The signed-in account may not do what this very import needs.",
        "The import would stop halfway.",
        permission_missing,
    ),
    Rule(
        "name-taken",
        FAMILY,
        Level.ERROR,
        Todo.DECIDE,
        "An unrelated item of the target has the name, in the folder, that an item would get.",
        "The target refuses a second one of the name.",
        name_taken,
    ),
    Rule(
        "limit-exceeded",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "The target has no room for as many items of a kind, or for one so large.",
        "It refuses what is beyond its limits.",
        limit_exceeded,
    ),
    Rule(
        "id-taken",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "The item's native id stands in the target under another key.",
        "It may be the same item, under another name; then there would be two.",
        id_taken,
    ),
    Rule(
        "release-older",
        FAMILY,
        Level.WARNING,
        Todo.KNOW,
        "The target runs an older release than the source.",
        "What is new in the source's release may not work there.",
        release_older,
    ),
)
