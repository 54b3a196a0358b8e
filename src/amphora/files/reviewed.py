"""Dockets that somebody has reviewed: whatever stands in the file is held against the docket made anew with the
decisions in it. What does not come out the same was changed by hand in a way that nobody would honour, and is
refused with its line. One comparison serves every field, so that none can be forgotten.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from amphora.core.form.bindings import MISSING
from amphora.core.merge.merge import FieldChange
from amphora.core.plan.actions import Action
from amphora.core.plan.decisions import LEAVE
from amphora.core.plan.docket import Docket
from amphora.core.values.canon import same
from amphora.core.values.errors import NotReady
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.next_step import to_type
from amphora.core.values.scan import token_places
from amphora.core.values.tokens import parse_token
from amphora.files.docket_file import (
    ACTION_FOLLOWS,
    AGREED,
    OPEN,
    DocketFile,
    document_of,
    fault,
    json_of,
    line_of,
    unknown,
)

_FREE = ("action", "reason")
"""What follows from choices: it may be as it was before they were made."""

_BY_THEMSELVES = ("items", "aftercare", "breaks")

_WHERE = {
    "bindings": "Bindings are the crosswalk's: change them there, then amphora compare --refresh.",
    "action": ACTION_FOLLOWS,
}


def refuse_otherwise(path: Path, file: DocketFile, docket: Docket, undecided: Callable[[], Docket]) -> None:
    """UsageFault, with the line, for whatever stands in a docket file and is not what its docket does. `docket` was
    made with the file's decisions, `undecided` makes it without them."""
    # Values first: they would come out of the comparison as equal, since the docket was made with them.
    _values(path, file, docket)
    mine, wanted = file.document, document_of(docket)
    before: list[dict[str, Any]] = []

    def unmade() -> dict[str, Any]:
        if not before:
            before.append(document_of(undecided()))
        return before[0]

    # Agreements stand beside what is agreed to: they are weighed by themselves.
    _broken(path, mine, wanted, unmade)
    _names(path, mine, {"breaks": {}, **wanted} if "breaks" in mine else wanted, "a docket", beside=AGREED)
    for name in wanted:
        if name not in _BY_THEMSELVES and not same(json_of(mine[name], path, mine, name), wanted[name]):
            _differs(path, mine, name, wanted, name)
    _names(path, mine["items"], wanted["items"], f"{docket.title}")
    for key, row in wanted["items"].items():
        _item(path, mine["items"], key, row, lambda key=key: unmade()["items"].get(key, {}))  # type: ignore[misc]
    care = json_of(mine["aftercare"], path, mine, "aftercare")
    if not same(care, wanted["aftercare"]) and not same(care, unmade()["aftercare"]):
        raise fault(path, "What is left to do by hand follows from the items; it can't be edited.", mine, "aftercare")


def _broken(path: Path, mine: Any, wanted: Mapping[str, Any], unmade: Callable[[], Mapping[str, Any]]) -> None:
    """Refuses a docket that does not say what would break there: somebody agreed to what it says."""
    said = json_of(mine["breaks"], path, mine, "breaks") if "breaks" in mine else {}
    found = wanted.get("breaks", {})
    # As it was before the choices were made, too: one of them may have kept the part.
    if said != found and (found or said != unmade().get("breaks", {})):
        raise NotReady(
            f"{path} does not say what would no longer find there what it uses; nothing was touched.",
            subject=str(path),
            place=line_of(mine, "breaks") if "breaks" in mine else None,
            details=[f"{user} uses {', '.join(parts)}" for user, parts in found.items()],
            next_step=to_type("compare", "--refresh", str(path)),
        )


def _item(
    path: Path, items: Any, key: Key, wanted: Mapping[str, Any], unmade: Callable[[], Mapping[str, Any]]
) -> None:
    row = items[key]
    # An item that stays out is no longer in the docket: what its line says besides is moot.
    # Whatever the item's changes say, none of them will be looked at.
    if row.get("choice") == LEAVE:
        return
    whole = row.get("choice")
    known = {**wanted, "choice": ""}
    if extra := [name for name in row if name not in known and name not in unmade()]:
        raise unknown(path, row, extra[0], known)
    for name in _FREE:
        # Both ways it may have been written: before the choices were made, or after.
        if name not in row or row[name] not in (wanted[name], unmade().get(name)):
            _differs(path, row if name in row else items, name if name in row else key, wanted, name)
    changes, asked = row.get("changes") or {}, wanted.get("changes", {})
    # A choice may settle what is asked about another place: then that may stand there, or not.
    there = {**unmade().get("changes", {}), **asked}
    _names(path, changes if changes else row, asked, f"the changes of {key}", is_empty=not changes, known=there)
    for place in changes:
        _change(path, key, changes[place], place, there[place], whole)


def _change(path: Path, key: Key, mine: Any, place: str, wanted: Mapping[str, Any], whole: Any) -> None:
    if extra := [name for name in mine if name not in (*wanted, "choice")]:
        raise unknown(path, mine, extra[0], {**wanted, "choice": ""})
    for name in wanted:
        if name == "choice":
            continue
        if name not in mine or not same(json_of(mine[name], path, mine, name), wanted[name]):
            _differs(path, mine, name, wanted, name)
    said, taken = mine.get("choice", OPEN), wanted.get("choice", OPEN)
    # A question that is open in the file has to be open in the docket too, unless a choice for the whole item answers
    # it.
    if said == OPEN and ("choice" in mine or taken != OPEN):
        if taken not in (OPEN, whole):
            raise fault(path, f"It says nothing of a choice at {place} of {key}.", mine, "choice")
        return
    if said != OPEN and not same(json_of(said, path, mine, "choice"), taken):
        why = "nothing was delivered there" if said == "last-delivered" else "nothing would come of it there"
        raise fault(path, f"{said!r} can't be chosen at {place} of {key}: {why}.", mine, "choice")


def _names(
    path: Path,
    mine: Any,
    wanted: Mapping[str, Any],
    what: str,
    is_empty: bool = False,
    beside: str = "",
    known: Mapping[str, Any] | None = None,
) -> None:
    """Refuses members that are not known, or that are missing; `beside` is one that need not be there, as are those
    of the `known` that are not wanted."""
    known = wanted if known is None else known
    if is_empty:
        if wanted:
            raise fault(path, f"{what} lacks {next(iter(wanted))}.", mine, "changes")
        return
    for name in mine:
        if str(name) not in known and name != (beside or None):
            raise unknown(path, mine, name, known)
    for name in wanted:
        if name not in mine:
            raise fault(path, f"{what} lacks {name}: its line was deleted.", mine, next(iter(mine), None))


def _differs(path: Path, holder: Any, at: Any, wanted: Mapping[str, Any], name: str) -> None:
    told = repr(wanted[name]) if not isinstance(wanted[name], dict | list) else "something else"
    words = _WHERE.get(name, f"`{name}` is {told}; it can't be changed here.")
    raise fault(path, words, holder, at)


def _values(path: Path, file: DocketFile, docket: Docket) -> None:
    """Refuses values that can't be written: of another type, or with tokens that stand for nothing there."""
    for action in docket.actions:
        for change in action.comparison.changes if action.comparison else ():
            said = file.decisions.of(action.key).places.get(change.place)
            if isinstance(said, Mapping):
                reason = _unfit(said["value"], change, action, docket)
                if reason:
                    row = file.document["items"][action.key]["changes"][change.place or "/"]
                    raise fault(path, f"The value at {change.place} of {action.key} {reason}.", row, "choice")


def _unfit(value: Json, change: FieldChange, action: Action, docket: Docket) -> str:
    sides = [side for side in (change.package, change.target, change.last_delivered) if side is not MISSING]
    types = {_type(side) for side in sides if side is not None}
    if value is not None and types and _type(value) not in types:
        return f"is {_type(value)}, and {' or '.join(sorted(types))} stands there"
    if change.place in ("state:title", "state:folder") and value in (None, "") and change.place == "state:title":
        return "would be no title"
    created = {other.key for other in docket.actions}
    for place in token_places(value):
        token = parse_token(place.token)
        if token is None or token.kind in ("secret", "unbound", "file"):
            return f"holds {place.token}, which nobody can choose"
        if token.key not in created and token.key not in docket.bindings.values:
            return f"holds {place.token}, which stands for nothing in {docket.target}"
    return ""


def _type(value: Json) -> str:
    if isinstance(value, bool):
        return "yes or no"
    if isinstance(value, int | float):
        return "a number"
    words: Mapping[type, str] = {str: "text", list: "a list", dict: "an object"}
    return words.get(type(value), "nothing")
