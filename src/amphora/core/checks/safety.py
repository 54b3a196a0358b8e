"""Rules on safety: what of the target would be overwritten, taken over, removed, or can't be written at all."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext, Rule, Todo, named
from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import named_pointer, part_ids, required_references, requires, spotted
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.crosswalk import row_name
from amphora.core.needs.pauses import legs_of
from amphora.core.values.graph import in_order
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Finding, Item, Json, Level
from amphora.core.values.next_step import advice
from amphora.core.values.tokens import parse_token
from amphora.core.values.words import counted

FAMILY = "safety"


def local_edits(context: CheckContext) -> Iterable[Finding]:
    """The target changed an item in a way that the package contradicts."""
    if context.target is None:
        return
    for planned in context.target.planned:
        if planned.clashes:
            if planned.do == "create":
                what, place = f"was delivered to {context.target.name}, and is no longer there", ""
            else:
                places = named([place_phrase(place) for place in planned.clashes])
                what, place = f"is different in {context.target.name} at {places}", planned.clashes[0]
            yield context.finding(
                "local-edits",
                Level.WARNING,
                f"{context.title(planned.key)} {what}: it needs a decision.",
                item=planned.key,
                place=place,
            )


def other_claim(context: CheckContext) -> Iterable[Finding]:
    """Another package delivered the item as well."""
    shared = context.target.shared if context.target else {}
    for key, packages in sorted(shared.items()):
        planned = context.planned.get(key)
        # An item that is left as it is takes nothing from anybody.
        if key in context.contents.items and (planned is None or planned.do == "update"):
            yield context.finding(
                "other-claim",
                Level.WARNING,
                f"{context.title(key)} was delivered by {named(list(packages))}; now"
                f" {context.contents.title} would be in force.",
                item=key,
            )


def would_retire(context: CheckContext) -> Iterable[Finding]:
    """An item that this package once brought is no longer in it."""
    for key in context.target.dropped if context.target else ():
        row = context.target.rows.get(key) if context.target else None
        if row:
            rows = f", with {counted(row.rows, 'row')}" if row.rows else ""
            yield context.finding(
                "would-retire",
                Level.WARNING,
                f"{row.states.title!r} ({readable(key)}) is no longer in {context.contents.name}; it could be retired"
                f" from {context.target and context.target.name}{rows}.",
                item=key,
            )


def retire_blocked(context: CheckContext) -> Iterable[Finding]:
    """What the package no longer holds is still used by something that stays."""
    dropped = set(context.target.dropped) if context.target else set()
    for key in sorted(dropped):
        users = [item.key for _, item in sorted(context.contents.items.items()) if key in item.uses()]
        users += [k for k in context.target.gone_users.get(key, ()) if k not in users] if context.target else []
        # What is dropped together goes together: users inside the set don't count.
        if users := [user for user in users if user not in dropped]:
            yield context.finding(
                "retire-blocked",
                Level.WARNING,
                f"{readable(key)} is no longer in {context.contents.name}, but"
                f" {named([context.title(user) for user in users])} still uses it: it can't be retired.",
                item=key,
            )


def column_lost(context: CheckContext) -> Iterable[Finding]:
    """A column that holds data would be removed, or become of another type."""
    if context.target is None:
        return
    for packed in context.written():
        item = context.target.mixed.get(packed.key, packed)
        there, row = context.target.present.get(item.key), context.target.rows.get(item.key)
        sheet = context.sheets.get(item.kind)
        if there is None or row is None or not row.rows or sheet is None or not sheet.has_data:
            continue
        # By id, so that a renamed column is no lost one.
        gone = sorted(part_ids(there.form, sheet) - part_ids(item.form, sheet))
        old, new = _data(there.form, sheet), _data(item.form, sheet)
        other = sorted(place for place in old.keys() & new.keys() if old[place] != new[place])
        words = [f"{part!r} would be removed" for part in gone]
        words += [f"{' > '.join(place[-2:])} becomes {new[place]!r} (it is {old[place]!r})" for place in other]
        if words:
            yield context.finding(
                "column-lost",
                Level.WARNING,
                f"{item.states.title!r} holds {counted(row.rows, 'row')} in {context.target.name}: {named(words)}.",
                item=item.key,
            )


def part_in_use(context: CheckContext) -> Iterable[Finding]:
    """A part would be gone that something beside the package uses there."""
    users: dict[tuple[Key, str], list[Key]] = {}
    for user, key, part in context.target.severed if context.target else ():
        users.setdefault((key, part), []).append(user)
    for (key, part), keys in sorted(users.items()):
        yield context.finding(
            "part-in-use",
            Level.WARNING,
            f"{part!r} of {context.title(key)} would be gone from {context.name}, where"
            f" {named([readable(user) for user in keys])} {'uses' if len(keys) == 1 else 'use'} it.",
            item=key,
        )


def cycle_unbreakable(context: CheckContext) -> Iterable[Finding]:
    """New items require each other, and the target takes items one by one; or a connection that is made from an
    item is needed by that very item, or by what it uses."""
    yield from _cycles_through_a_pause(context)
    if context.target is None or not context.target.is_stepwise:
        return
    # Only what is new has to be created in an order; what is there can be updated in any.
    new = {item.key: item for item in context.written() if item.key not in context.target.rows}
    graph = {key: _required(context, item) & new.keys() for key, item in new.items() if _has_required(context, item)}
    for group in in_order(graph):
        # A group of one is a circle only if it names itself.
        if len(group) > 1 or group[0] in graph[group[0]]:
            yield context.finding(
                "cycle-unbreakable",
                Level.ERROR,
                f"{named([context.title(key) for key in group], 5)} require each other, and"
                f" {context.target.name} takes one item at a time.",
                item=group[0],
            )


def _cycles_through_a_pause(context: CheckContext) -> Iterable[Finding]:
    items = context.contents.items
    new = items.keys() - (context.target.rows.keys() if context.target else set())
    # The plan's own question: a circle that it can part with a pause is none.
    legs = legs_of(
        items,
        new,
        context.mapped.values(),
        lambda item, need: requires(item.form, context.sheets.get(item.kind), need),
    )
    stuck: dict[Key, list[Key]] = {}
    for key, need in legs.stuck:
        stuck.setdefault(need, []).append(key)
    for need, keys in sorted(stuck.items()):
        yield context.finding(
            "cycle-unbreakable",
            Level.ERROR,
            f"{row_name(need)!r} is made from {readable(legs.makers[need])}, which can't be there without it:"
            f" {named([context.title(key) for key in keys])} needs it.",
            item=keys[0],
        )


def _data(form: Json, sheet: KindSheet) -> dict[tuple[str, ...], Json]:
    """The values at the places whose change touches stored rows, elements of named arrays by name."""
    return {named_pointer(form, sheet, at): value for at, value, spot, _ in spotted(form, sheet) if spot.is_data}


def _has_required(context: CheckContext, item: Item) -> bool:
    sheet = context.sheets.get(item.kind)
    return sheet is not None and sheet.has_required


def _required(context: CheckContext, item: Item) -> set[Key]:
    """The keys that stand at required references of an item."""
    sheet = context.sheets[item.kind]
    # Only these: a circle of references that may wait is no circle for a plan.
    tokens = (parse_token(value) for value in required_references(item.form, sheet))
    return {token.key for token in tokens if token}


def other_ledger(context: CheckContext) -> Iterable[Finding]:
    """An item was brought there by Amphora, with another ledger."""
    for key, uid in sorted(context.target.of_others.items()) if context.target else ():
        row = context.target.rows.get(key) if context.target else None
        since = ""
        if row and row.modified_at:
            since = f", and changed last by {row.modified_by or 'somebody'} at {row.modified_at}"
        message = f"{context.title(key)} was brought into {context.name} with another ledger ({uid[:8]}){since}."
        yield context.finding(
            "other-ledger",
            Level.WARNING,
            message,
            item=key,
            next_step=advice("Use one ledger for a target: write the address of a team's into amphora.toml."),
        )


RULES = (
    Rule(
        "other-ledger",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "An item was brought there by Amphora, with another ledger.",
        "What was delivered last, and who claims it, stands there: here it counts as of unknown origin.",
        other_ledger,
    ),
    Rule(
        "local-edits",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "Package and target changed the same field, differently.",
        "Somebody mended something there; nothing is overwritten without a word.",
        local_edits,
    ),
    Rule(
        "other-claim",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "Another package delivered the item as well.",
        "Its version would no longer be in force there, and nobody might notice.",
        other_claim,
    ),
    Rule(
        "would-retire",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "An item that this package once brought is no longer in it.",
        "It stays unless somebody retires it; if it holds rows, they are at stake.",
        would_retire,
    ),
    Rule(
        "retire-blocked",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "What the package no longer holds is still used by something that stays.",
        "It can't be retired before its users let go of it.",
        retire_blocked,
    ),
    Rule(
        "column-lost",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "A column that holds data would be removed, or become of another type.",
        "Rows are lost or cut, and undo can't bring them back.",
        column_lost,
    ),
    Rule(
        "part-in-use",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "A part (a column, a step) would be gone that something beside the package uses.",
        "What uses it would no longer work there, although nobody touched it.",
        part_in_use,
    ),
    Rule(
        "cycle-unbreakable",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "New items require each other and the target takes them one by one; or an item needs the connection that can"
        " only be made from it.",
        "Neither can be there before the other.",
        cycle_unbreakable,
    ),
)
