"""Rules on needs: what the target has to supply, and whether that serves."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from amphora.core.checks.context import CheckContext, Rule, Todo, named
from amphora.core.form.objects import PART_MARK, grouped, in_words, used_through
from amphora.core.form.settings import is_setting, setting_words
from amphora.core.form.spots import setting_values
from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Finding, Item, Level
from amphora.core.values.next_step import NOTHING, NextStep, open_value, to_type
from amphora.core.values.tokens import parse_token

FAMILY = "needs"


def need_open(context: CheckContext) -> Iterable[Finding]:
    """A connection, setting, person or address has no accepted counterpart in the target."""
    for mapped in context.mapped.values():
        if mapped.state in (MapState.MAPPED, MapState.LATER) or mapped.need.kind == "secret":
            continue
        guess = f" (perhaps {mapped.value!r}: {mapped.reason})" if mapped.state is MapState.GUESSED else ""
        why = f": {mapped.reason}" if mapped.state is MapState.OPEN and mapped.reason else ""
        yield _of_need(context, "need-open", Level.WARNING, mapped, f"is not mapped{guess}{why}.", _map(context))


def need_later(context: CheckContext) -> Iterable[Finding]:
    """A connection can only be made once an integration of this same package is there."""
    for mapped in context.mapped.values():
        if mapped.state is MapState.LATER:
            words = f"can be made once {readable(str(mapped.value))} is there; the import pauses for it."
            yield _of_need(context, "need-later", Level.NOTE, mapped, words, NOTHING)


def need_other_type(context: CheckContext) -> Iterable[Finding]:
    """The counterpart is of another type than what was used in the source."""
    for mapped in context.mapped.values():
        wanted, given = mapped.need.type, mapped.native_type
        if mapped.state is MapState.MAPPED and mapped.need.kind == "connection" and wanted and given != wanted:
            words = f"is {given or 'of no known type'} in {mapped.environment}, and {wanted} in the source."
            yield _of_need(context, "need-other-type", Level.WARNING, mapped, words, _map(context))


def setting_unfit(context: CheckContext) -> Iterable[Finding]:
    """The crosswalk's value is not of the type that the setting has."""
    for item, place, key, type_ in _settings(context):
        mapped = context.mapped.get(key)
        if mapped and mapped.state is MapState.MAPPED and not is_setting(mapped.native, type_):
            yield context.finding(
                "setting-unfit",
                Level.ERROR,
                f"setting {row_name(key)!r} is {mapped.native!r} for {mapped.environment}; it has to be"
                f" {setting_words(type_)}.",
                item=item.key,
                place=place,
                next_step=_map(context).plus("--set", open_value(row_name(key))),
            )


def connection_broken(context: CheckContext) -> Iterable[Finding]:
    """The counterpart exists but doesn't work."""
    for mapped, users in _connections(context):
        reach = context.target.reach.get(str(mapped.native)) if context.target else None
        if reach is None or reach.is_working is not False:
            continue
        switched = [item for item in users if item.states.is_on and _switches(context, item)]
        # What stays off waits for the connection to be mended; what is to be on would be refused.
        level = Level.ERROR if switched else Level.WARNING
        words = (
            f"is {mapped.value!r} in {mapped.environment}, which doesn't work: {reach.reason or 'no reason given'}."
        )
        if switched:
            titles = named([repr(item.states.title) for item in switched])
            words += f" {titles} can't be switched on with it."
        yield _of_need(context, "connection-broken", level, mapped, words, NOTHING)


def object_missing(context: CheckContext) -> Iterable[Finding]:
    """A table, folder or topic that is used isn't on the other end of the counterpart."""
    for mapped, users in _connections(context):
        reach = context.target.reach.get(str(mapped.native)) if context.target else None
        if reach is None or not reach.missing:
            continue
        used = {item.key: _names(context, item, mapped.need.key) for item in users}
        # Without what queries seem to read: nobody knows their dialects for certain.
        surely = [_names(context, item, mapped.need.key, has_queries=False) for item in users]
        for names in grouped(reach.missing):
            # Where a sheet doesn't tell, whoever uses the connection may be meant.
            some = [item for item in users if used[item.key] & set(names)] or users
            titles = named([repr(item.states.title) for item in some])
            # Without a table nothing can be made. Of a column nobody knows whether anything still shows it: some are
            # gone at home as well.
            is_part = PART_MARK in names[0]
            # What no item names is what its environment tells by itself.
            is_sure = some is users or any(mine & set(names) for mine in surely)
            how = "" if is_sure else " in a query, as far as that can be read"
            yield context.finding(
                "object-missing",
                Level.WARNING if is_part or not is_sure else Level.ERROR,
                f"{in_words(names)} {'are' if len(names) > 1 else 'is'} not on the other end of {mapped.value!r} in "
                f"{mapped.environment}; used by {titles}{how}.{' What shows it will fail.' if is_part else ''}",
                item=some[0].key if some else "",
            )


def _names(context: CheckContext, item: Item, connection: Key, has_queries: bool = True) -> set[str]:
    """What an item uses on the other end of a connection."""
    sheet = context.sheets.get(item.kind)
    return used_through(item.form, sheet, item.states.title, has_queries).get(connection, set())


def needs_share(context: CheckContext) -> Iterable[Finding]:
    """Two needs have one counterpart."""
    by_native: dict[tuple[str, str], list[Mapped]] = {}
    for mapped in context.mapped.values():
        # Settings share values all the time, and addresses are one a target by nature.
        if mapped.state is MapState.MAPPED and mapped.need.kind in ("connection", "person"):
            by_native.setdefault((mapped.need.kind, str(mapped.native)), []).append(mapped)
    for (kind, _), several in sorted(by_native.items()):
        # A warning and no error: two names for one database are a plan of many test environments.
        if len(several) > 1:
            names = " and ".join(repr(row_name(one.need.key)) for one in several)
            yield context.finding(
                "needs-share",
                Level.WARNING,
                f"{kind} {names} are both {several[0].value!r} in {several[0].environment}.",
                item=several[0].need.used_by[0] if several[0].need.used_by else "",
                next_step=_map(context),
            )


def secret_to_enter(context: CheckContext) -> Iterable[Finding]:
    """A secret never travels; it has to be in the target already, or be entered there."""
    for need in context.contents.needs:
        cell = context.mapped.get(need.key)
        # Where the crosswalk says where it is kept, it is entered by the import itself.
        if need.kind == "secret" and not (cell and cell.state is MapState.MAPPED):
            yield context.finding(
                "secret-to-enter",
                Level.NOTE,
                f"Secret {row_name(need.key)!r} does not travel: updates keep the target's, a new item needs it.",
                item=need.used_by[0] if need.used_by else "",
            )


def _of_need(
    context: CheckContext, rule: str, level: Level, mapped: Mapped, words: str, next_step: NextStep
) -> Finding:
    need = mapped.need
    item = need.used_by[0] if need.used_by else ""
    place = ""
    if item in context.contents.items:
        places = context.contents.items[item].tokens
        # The first of its places: one need, one line, and the place only shows where to look.
        place = next((place.pointer for place, token in places if token.key == need.key), "")
    message = f"{need.kind} {row_name(need.key)!r} {words}"
    return context.finding(rule, level, message, item=item, place=place, next_step=next_step)


def _map(context: CheckContext) -> NextStep:
    return to_type("map", context.contents.spoken, *([context.target.name] if context.target else []))


def _settings(context: CheckContext) -> Iterator[tuple[Item, str, Key, str]]:
    """Where a setting's token stands: item, place, need, type."""
    keys = {need.key for need in context.contents.needs if need.kind == "setting"}
    users = {key for need in context.contents.needs if need.key in keys for key in need.used_by}
    for key in sorted(users & context.contents.items.keys()):
        item = context.contents.items[key]
        sheet = context.sheets.get(item.kind)
        for pointer, value, type_ in setting_values(item.form, sheet) if sheet else ():
            token = parse_token(value)
            if token and token.key in keys:
                yield item, pointer, token.key, type_


def _connections(context: CheckContext) -> Iterator[tuple[Mapped, list[Item]]]:
    """Each mapped connection with the packed items that use it."""
    for mapped in context.mapped.values():
        if mapped.state is MapState.MAPPED and mapped.need.kind == "connection":
            yield mapped, [context.contents.items[k] for k in mapped.need.used_by if k in context.contents.items]


def _switches(context: CheckContext, item: Item) -> bool:
    planned = context.planned.get(item.key)
    # Without a plan it may be switched on, so that a broken connection counts.
    return planned is None or "switch" in planned.permissions


RULES = (
    Rule(
        "need-open",
        FAMILY,
        Level.WARNING,
        Todo.MAP,
        "A connection, setting, person or address has no accepted counterpart in the target.",
        "Without one the items can't be written there.",
        need_open,
    ),
    Rule(
        "setting-unfit",
        FAMILY,
        Level.ERROR,
        Todo.MAP,
        "The crosswalk's value is not of the type that the setting has.",
        "The target refuses the item, or does something else than was meant.",
        setting_unfit,
    ),
    Rule(
        "need-other-type",
        FAMILY,
        Level.WARNING,
        Todo.MAP,
        "The counterpart of a connection is of another type than in the source.",
        "A database behind a mail connection serves nobody; it may be the wrong row.",
        need_other_type,
    ),
    Rule(
        "needs-share",
        FAMILY,
        Level.WARNING,
        Todo.MAP,
        "Two needs have one counterpart in the target.",
        "They were two in the source for a reason; what one changes, the other sees.",
        needs_share,
    ),
    Rule(
        "connection-broken",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "The counterpart of a connection exists but doesn't work.",
        "What uses it can't be switched on, or fails at its first run.",
        connection_broken,
    ),
    Rule(
        "object-missing",
        FAMILY,
        Level.ERROR,
        Todo.PREPARE,
        "A table, folder or topic that is used isn't on the other end of the counterpart; a warning for a column.",
        "The target refuses what is built on it; what shows the column fails.",
        object_missing,
    ),
    Rule(
        "need-later",
        FAMILY,
        Level.NOTE,
        Todo.AFTER,
        "A connection can only be made once an integration of this same package is there.",
        "The import has to pause in between, and be resumed.",
        need_later,
    ),
    Rule(
        "secret-to-enter",
        FAMILY,
        Level.NOTE,
        Todo.AFTER,
        "A secret never travels; it has to be in the target already, or be entered there.",
        "Until then what uses it doesn't work.",
        secret_to_enter,
    ),
)
