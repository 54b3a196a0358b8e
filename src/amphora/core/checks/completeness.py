"""Rules on completeness: is everything that the package uses packed, or there already?"""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext, Rule, Todo, named
from amphora.core.form.parts import parts_named, parts_of
from amphora.core.form.places import PartOf, Spot
from amphora.core.form.refers import Refer
from amphora.core.form.spots import empty_references, spotted
from amphora.core.values.keys import Key, name_of, readable
from amphora.core.values.model import Finding, Item, Level
from amphora.core.values.next_step import NOTHING, advice, to_type
from amphora.core.values.pointers import write_pointer
from amphora.core.values.tokens import TokenPlace, parse_token

FAMILY = "completeness"


def item_missing(context: CheckContext) -> Iterable[Finding]:
    """An item uses another that is neither packed nor in the target."""
    for key, uses in sorted(_outside(context).items()):
        if context.target is None:
            message = f"{readable(key)} is used but not packed; the target has to have it."
            yield context.finding("item-missing", Level.NOTE, message, item=uses[0][0].key, place=uses[0][1].pointer)
        # What is there under that key serves, whatever its state: how it differs is another rule's question.
        elif key not in context.target.rows and key not in context.target.turned:
            users = named(list(dict.fromkeys(repr(item.states.title) for item, _ in uses)))
            other = context.target.renamed.get(key, "")
            also = f" It has no {readable(other)} either, as the crosswalk calls it." if other else ""
            yield context.finding(
                "item-missing",
                Level.ERROR,
                f"{readable(key)} is neither packed nor in {context.target.name}; used by {users}.{also}",
                item=uses[0][0].key,
                place=uses[0][1].pointer,
                next_step=context.retry,
                lacks=key,
            )


def item_differs(context: CheckContext) -> Iterable[Finding]:
    """An item that stays at home is in the target, but not as it was when the package was built."""
    present = context.target.present if context.target else {}
    for need in context.contents.needs:
        there = present.get(need.key)
        # Packages of older builds say nothing of what was seen.
        if there is not None and need.seen and there.fingerprint != need.seen:
            yield context.finding(
                "item-differs",
                Level.WARNING,
                f"{readable(need.key)} in {context.name} is not as it was in"
                f" {context.contents.source} when this was built against it.",
                item=need.used_by[0],
                next_step=to_type("compare", context.contents.source, context.name, need.key),
            )


def part_missing(context: CheckContext) -> Iterable[Finding]:
    """An item uses a part (a column, a node) that the packed or present item doesn't have."""
    known: dict[tuple[Key, PartOf | None], set[str]] = {}
    present = context.target.present if context.target else {}
    # As they will be: what somebody mended there stays, and may be what uses a part, or what lacks it.
    mixed = context.target.mixed if context.target else {}
    after = {**context.contents.items, **mixed}
    for key, item in sorted(after.items()):
        where = f" as it would be in {context.name}" if key in mixed else ""
        for place, use in parts_named(item, context.sheets.get(item.kind)):
            holder = after.get(use.key) or present.get(use.key)
            sheet = context.sheets.get(holder.kind) if holder else None
            if holder is None or sheet is None:
                continue
            if (use.key, use.by) not in known:
                known[use.key, use.by] = parts_of(holder.form, sheet, use.by)
            if use.part not in known[use.key, use.by]:
                there = f" as that would be in {context.name}" if use.key in mixed else ""
                yield context.finding(
                    "part-missing",
                    Level.ERROR,
                    f"{item.states.title!r}{where} uses {use.part!r} of {readable(use.key)}{there}, which has no such"
                    " part.",
                    item=key,
                    place=place,
                    next_step=NOTHING if where or there else to_type("uses", context.contents.source, key),
                )


def reference_empty(context: CheckContext) -> Iterable[Finding]:
    """Nothing stands where a reference has to be."""
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        if sheet and sheet.has_required:
            for pointer in empty_references(item.form, sheet):
                yield context.finding(
                    "reference-empty",
                    Level.ERROR,
                    f"{item.states.title!r} names nothing where it has to refer to something.",
                    item=key,
                    place=pointer,
                )


def reference_unfit(context: CheckContext) -> Iterable[Finding]:
    """A reference names an item of a kind that can't stand there."""
    fits: dict[tuple[Refer, str], bool] = {}
    for item, place, token, spot in context.declared:
        refer = spot.refer
        if refer is None or token.kind == "unbound":
            continue
        fit = fits.get((refer, token.kind))
        if fit is None:
            # Kept by role and kind: twenty thousand references of one item have a handful of both.
            fit = fits[refer, token.kind] = refer.is_known_only or refer.may_name(token.kind)
        if not fit:
            kinds = " or ".join(sorted({name.partition("#")[0] for name in refer.to}))
            yield context.finding(
                "reference-unfit",
                Level.ERROR,
                f"{item.states.title!r} refers to {readable(token.key)} where only a {kinds} can stand.",
                item=item.key,
                place=place.pointer,
            )


def reference_plain(context: CheckContext) -> Iterable[Finding]:
    """Plain text stands where a reference has to be."""
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        is_packed_otherwise = (
            sheet is not None and context.contents.sheets.get(item.kind, sheet.source) != sheet.source
        )
        # An export never leaves a plain one where its own sheet knows of a reference.
        if sheet is None or not (context.contents.is_edited or is_packed_otherwise):
            continue
        advised = advice("Export it again: it was packed by another kind sheet.") if is_packed_otherwise else NOTHING
        for at, value, spot, _ in spotted(item.form, sheet):
            # At a place that is only known to hold ids now and then, plain text is the usual thing.
            is_strict = spot.refer is not None and not spot.refer.is_known_only
            is_id = type(value) is int and value > 0 and _are_numbers(spot, context)
            is_text = isinstance(value, str) and value != "" and parse_token(value) is None
            if is_strict and (is_text or is_id):
                yield context.finding(
                    "reference-plain",
                    Level.ERROR,
                    f"{item.states.title!r} names {str(value)[:60]!r} where a reference has to be.",
                    item=key,
                    place=write_pointer(at),
                    next_step=advised,
                )


def _are_numbers(spot: Spot, context: CheckContext) -> bool:
    """Whether ids of what may stand at a place are numbers."""
    kinds = {to.partition("#")[0] for to in spot.refer.to} if spot.refer else set()
    return any(sheet.ids.is_number for kind in kinds if (sheet := context.sheets.get(kind)))


def draft_newer(context: CheckContext) -> Iterable[Finding]:
    """The source held unpublished edits that the package doesn't."""
    for key, item in sorted(context.contents.items.items()):
        if item.unpublished:
            yield context.finding(
                "draft-newer",
                Level.WARNING,
                f"{item.states.title!r} had unpublished edits {item.unpublished}; the live version is packed.",
                item=key,
                next_step=context.retry.plus("--take", "draft"),
            )


def unbound_id(context: CheckContext) -> Iterable[Finding]:
    """A reference names an id that nothing in the source has."""
    for item, place, token in context.references:
        if token.kind == "unbound":
            yield context.finding(
                "unbound-id",
                Level.ERROR,
                f"{item.states.title!r} refers to {name_of(token.key)!r}, which exists nowhere in"
                f" {context.contents.source}.",
                item=item.key,
                place=place.pointer,
            )


def undeclared_reference(context: CheckContext) -> Iterable[Finding]:
    """A value is the id of an item, at a place where the kind sheet knows of no reference."""
    for item, place, token, spot in context.declared:
        # A place declared as a setting may well hold an id: somebody has thought about it.
        if not (spot.refer or spot.setting):
            yield context.finding(
                "undeclared-reference",
                Level.NOTE,
                f"{item.states.title!r} names {readable(token.key)} where no reference is declared.",
                item=item.key,
                place=place.pointer,
            )


def _outside(context: CheckContext) -> dict[Key, list[tuple[Item, TokenPlace]]]:
    """The items that are used but not packed, with where."""
    result: dict[Key, list[tuple[Item, TokenPlace]]] = {}
    for item, place, token in context.references:
        if token.is_item and token.key not in context.contents.items:
            result.setdefault(token.key, []).append((item, place))
    return result


RULES = (
    Rule(
        "item-missing",
        FAMILY,
        Level.ERROR,
        Todo.PACK,
        "An item uses another that is neither packed nor in the target.",
        "The target would refuse the import, or the item would point to nothing.",
        item_missing,
    ),
    Rule(
        "part-missing",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "An item uses a part (a column, a step) that the packed or present item doesn't have.",
        "What refers to the part breaks as soon as somebody opens it.",
        part_missing,
    ),
    Rule(
        "reference-empty",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "Nothing stands where the kind sheet requires a reference.",
        "The target refuses an item that lacks what it can't do without.",
        reference_empty,
    ),
    Rule(
        "reference-unfit",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "A reference names an item of a kind that can't stand there.",
        "The target refuses it.",
        reference_unfit,
    ),
    Rule(
        "reference-plain",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "Plain text stands where a reference has to be, in a package that was edited as a folder or packed by another"
        " kind sheet.",
        "It names nothing in any environment.",
        reference_plain,
    ),
    Rule(
        "unbound-id",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "A reference names an id that nothing in the source has.",
        "It is broken in the source already, and would travel broken.",
        unbound_id,
    ),
    Rule(
        "item-differs",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "An item that stays at home is in the target, but not as it was when the package was built.",
        "What was built and tried against one form may not work with the other.",
        item_differs,
    ),
    Rule(
        "draft-newer",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "The source held unpublished edits that the package doesn't carry.",
        "Whoever made them may expect them on the far side.",
        draft_newer,
    ),
    Rule(
        "undeclared-reference",
        FAMILY,
        Level.NOTE,
        Todo.KNOW,
        "A value is the id of an item where the kind sheet knows of no reference.",
        "It is rewritten like a reference; if it is none, the sheet should say so.",
        undeclared_reference,
    ),
)
