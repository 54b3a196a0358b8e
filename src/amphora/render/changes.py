"""Field changes, arrivals, findings and mappings in words and in JSON."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from amphora.core.checks import RULES, todo_of
from amphora.core.form.bindings import MISSING
from amphora.core.form.visit import with_texts
from amphora.core.merge.merge import By, FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Finding, Item, Json
from amphora.core.values.tokens import Token, parse_token, render_text
from amphora.core.values.words import few
from amphora.render.in_columns import in_columns
from amphora.render.result import Cell, Grid, Row, Tone, shown

_BY: dict[By, tuple[str, Tone]] = {
    By.PACKAGE: ("package", "plain"),
    By.CROSSWALK: ("crosswalk", "plain"),
    By.TARGET: ("target", "warn"),
    By.BOTH: ("both alike", "dim"),
    By.LINES: ("both, in different lines", "warn"),
    By.CLASH: ("both, differently", "bad"),
    By.UNKNOWN: ("unknown origin", "warn"),
}
_LEVEL: dict[str, Tone] = {"error": "bad", "warning": "warn", "note": "dim"}


def by_words(by: By) -> str:
    """Who changed a field, in words."""
    return _BY[by][0]


def changes_grid(
    changes: Iterable[FieldChange],
    left: str,
    right: str,
    has_base: bool,
    sizes: Mapping[str, int] | None = None,
    named: Mapping[Key, Json] | None = None,
) -> Grid:
    """Changes as a table: place, the three sides, who changed it. `sizes` are those of attachments, in bytes,
    `named` what the needs are called in the environment."""
    rows: list[Row] = []
    for change in changes:
        words, tone = _BY[change.by]
        by = (
            # What is decided shouts no longer, whoever changed it.
            Cell(f"{words}; decided: {_decided(change.choice)}", "dim")
            if change.choice is not None
            else Cell(words, tone)
        )
        values = [change.target, change.package]
        if has_base:
            values.insert(0, change.last_delivered)
        told = in_columns(values, lambda value: _value(value, sizes or {}, named or {}))
        if has_base and change.by is By.CROSSWALK:
            # What it is called now is not what was delivered.
            told[0] = _value(change.last_delivered, sizes or {}, {})
        rows.append([place_phrase(change.place), *told, by])
    headings = ["where", *(["last delivered"] if has_base else []), left, right, "changed by"]
    # Without a base nobody knows who changed what: a column of guesses is worse than none.
    return Grid(headings if has_base else headings[:-1], rows if has_base else [row[:-1] for row in rows])


def _decided(choice: Json) -> str:
    return str(choice) if isinstance(choice, str) else shown(choice.get("value"), 30)


def _value(value: Json, sizes: Mapping[str, int], named: Mapping[Key, Json]) -> str:
    """A value in a table; an attachment by its kind, size and the beginning of its digest."""
    token = parse_token(value)
    if token is None or token.kind != "file":
        return in_words(value, named)
    # The target's own attachments are not in the package: their sizes nobody knows.
    size = f", {sizes[token.path]:,} bytes" if token.path in sizes else ""
    return f"{token.part or 'attachment'}{size} ({token.path[:8]})"


def in_words(value: Json, named: Mapping[Key, Json]) -> str:
    """A value in a table; an item by its key, a need by what it is called in the environment, as far as that is
    known, also inside of texts, lists and objects."""
    token = parse_token(value)
    if token is not None:
        return _token_words(token, named)
    return shown(with_texts(value, lambda text: text_in_words(text, named)), 44)


def text_in_words(text: str, named: Mapping[Key, Json]) -> str:
    """A text of an item as people read it, however long it is."""
    token = parse_token(text)
    return _token_words(token, named) if token else render_text(text, lambda one: text_in_words(str(one), named))


def _token_words(token: Token, named: Mapping[Key, Json]) -> str:
    if token.kind == "unbound":
        return f"an id that leads nowhere ({token.path})"
    if not token.is_need:
        return readable(token.key) + (f", {token.part}" if token.part is not None else "")
    if token.key not in named:
        return f"{token.kind} {row_name(token.key)}"
    # The value first: whoever compares two columns compares that, and the name tells why it is no plain value.
    return f"{shown(named[token.key], 30)} ({token.kind} {row_name(token.key)})"


def change_json(change: FieldChange) -> dict[str, Any]:
    """A change for machines; absent sides are left out."""
    sides = {"last_delivered": change.last_delivered, "target": change.target, "package": change.package}
    return {
        "place": change.place,
        "by": change.by.value,
        # Left out and not null: null is a value that a field may hold.
        **{name: value for name, value in sides.items() if value is not MISSING},
        "choice": change.choice,
        "open": change.is_open,
    }


def mapped_row(mapped: Mapped, there: Json = None) -> Row:
    """One need in one environment as a table row; `there` is what it is in the source."""
    # Two are enough to know what it is about.
    users = ", ".join(readable(key) for key in mapped.need.used_by[:2])
    more = f" +{len(mapped.need.used_by) - 2}" if len(mapped.need.used_by) > 2 else ""
    tone: Tone = "good" if mapped.state is MapState.MAPPED else "warn"
    value = shown(mapped.value, 40) if mapped.value is not None else ""
    if mapped.state is MapState.GUESSED:
        value = f"?{value}"
    # An open secret is no question for the crosswalk.
    is_to_enter = mapped.need.kind == "secret" and mapped.state is not MapState.MAPPED
    return [
        mapped.need.kind,
        row_name(mapped.need.key),
        Cell(
            " ".join(
                part
                for part in (
                    shown(there, 24) if there is not None else "",
                    f"({mapped.need.type})" if mapped.need.type else "",
                )
                if part
            ),
            "dim",
        ),
        Cell("enter there" if is_to_enter else mapped.state.value, "dim" if is_to_enter else tone),
        value,
        Cell(mapped.reason or _offers(mapped), "dim"),
        Cell(users + more, "dim"),
    ]


def _offers(mapped: Mapped) -> str:
    if mapped.state is MapState.MAPPED or not mapped.on_offer:
        return ""
    return "on offer: " + ", ".join(mapped.offers[:6])


def mapped_json(mapped: Mapped) -> dict[str, Any]:
    """One need in one environment for machines."""
    return {
        "need": mapped.need.key,
        "environment": mapped.environment,
        "state": mapped.state.value,
        "value": mapped.value,
        "reason": mapped.reason,
        "offers": list(mapped.offers),
        "on_offer": list(mapped.on_offer),
        "used_by": list(mapped.need.used_by),
    }


def item_json(item: Item) -> dict[str, Json]:
    """An item's line in a package for machines."""
    return {
        "key": item.key,
        "kind": item.kind,
        "title": item.states.title,
        "states": item.states.to_json(),
        "digest": item.fingerprint,
        "uses": sorted(item.uses()),
    }


def finding_json(finding: Finding) -> dict[str, Any]:
    """A finding for machines."""
    return {
        "rule": finding.rule,
        "level": finding.level.value,
        "message": finding.message,
        "item": finding.item,
        "place": finding.place,
        "where": place_phrase(finding.phrase) if finding.phrase else "",
        "why": RULES[finding.rule].why,
        "todo": todo_of(finding).value,
        "target": finding.target,
        "next": finding.next_step,
    }


def rearranged(docket: Docket) -> list[str]:
    """What arrives otherwise than it is packed, in words: by folder, and under which titles."""
    mine = {action.key: one for action in docket.actions if (one := docket.arrivals.get(action.key))}
    titles = {action.key: action.states.title for action in docket.actions}
    folders: dict[str, list[str]] = {}
    for key, one in mine.items():
        if one.folder:
            folders.setdefault(one.folder, []).append(titles[key])
    found = [f"in the folder {folder}: {few(names, 6)}" for folder, names in sorted(folders.items())]
    return [*found, *(f"as {titles[key]!r}: {readable(key)}" for key, one in mine.items() if one.title)]
