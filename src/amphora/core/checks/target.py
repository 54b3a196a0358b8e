"""Rules on the target: does it know these kinds and features, and may we do what has to be done?"""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext
from amphora.core.model import Finding, Level
from amphora.core.selection import readable
from amphora.core.spots import feature_values


def kind_unknown(context: CheckContext) -> Iterable[Finding]:
    """The target has no such kind of item, or another version of its shape."""
    if context.target is None:
        return
    for kind in sorted({item.kind for item in context.contents.items.values()}):
        there = context.target.sheets.get(kind)
        items = [item for item in context.contents.items.values() if item.kind == kind]
        if there is None or not there.is_carried:
            message = f"{context.target.name} knows no items of kind {kind!r}; the package holds {len(items)}."
            yield context.finding("kind-unknown", Level.ERROR, message, item=items[0].key)
            continue
        other = sorted({item.schema for item in items} - {there.schema})
        if other:
            message = f"{kind!r} has schema {other[0]} in the package and {there.schema} in {context.target.name}."
            yield context.finding("kind-unknown", Level.ERROR, message, item=items[0].key)


def feature_missing(context: CheckContext) -> Iterable[Finding]:
    """An item needs a feature (a node type, an extension) that the target doesn't have."""
    if context.target is None or context.target.features is None:
        return
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        wanted = feature_values(item.form, sheet) if sheet else set()
        for feature in sorted(wanted - context.target.features):
            yield context.finding(
                "feature-missing",
                Level.ERROR,
                f"{item.states.title!r} needs {feature!r}, which is not installed in {context.target.name}.",
                item=key,
                next_step=f"Have {feature!r} installed in {context.target.name} first.",
            )


def permission_missing(context: CheckContext) -> Iterable[Finding]:
    """The signed-in account may not do what the import needs."""
    if context.target is None:
        return
    wanted = {"read", "write"}
    for item in context.contents.items.values():
        wanted |= {"publish"} if item.states.is_published else set()
        wanted |= {"switch"} if item.states.is_on else set()
    missing = sorted(wanted - context.target.permissions)
    if missing:
        yield context.finding(
            "permission-missing",
            Level.ERROR,
            f"{context.target.account} may not {', '.join(missing)} in {context.target.name}.",
            next_step=f"Ask the owner of {context.target.name} for: {', '.join(missing)}.",
        )


def name_taken(context: CheckContext) -> Iterable[Finding]:
    """The item's native id stands in the target under another key: is it the same item or not?"""
    for key, row in context.target.doubtful if context.target else ():
        yield context.finding(
            "name-taken",
            Level.WARNING,
            f"{readable(key)} has the id of {row.states.title!r} there; a new item will be made beside it.",
            item=key,
            next_step="If it is the same item, give its key there in the crosswalk under items:.",
        )
