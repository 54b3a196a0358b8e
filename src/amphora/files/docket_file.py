"""`NAME.ENVIRONMENT.docket.yaml`: a docket that people read, answer, keep and use later."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from amphora.core.form.bindings import MISSING
from amphora.core.merge.merge import LAST_DELIVERED, PACKAGE, TARGET, By, FieldChange
from amphora.core.plan.docket import Action, Docket, Fate, Retirement
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.files.yaml_text import dump_yaml, load_yaml, write_text

FORMAT = 1
OPEN = "?"
CHOICES = (PACKAGE, TARGET, LAST_DELIVERED)
_HEADER = """\
# The docket of an import: what it will do, item by item. Answer each choice that is "?" with
#   package | target | last-delivered, or with a mapping {value: …};
# or give a choice for a whole item (there also: leave, for an item that stays out of this import).
# What the package no longer holds stays in the target, unless its choice is retire or let-go.
# Then: amphora import THIS-FILE
"""


@dataclass(frozen=True)
class DocketFile:
    """What somebody decided, and what it was decided about."""

    package: str
    version: str
    package_digest: str
    target: str
    target_uid: str
    ledger_uid: str
    fingerprint: str
    custody: str
    choices: Mapping[Key, Mapping[str, Json]]
    fates: Mapping[Key, str] = field(default_factory=dict)
    sides: Mapping[tuple[Key, str], str] = field(default_factory=dict)
    since: str = ""
    without: tuple[str, ...] = ()


def write_docket(path: Path, docket: Docket) -> None:
    """Writes a docket; open questions get the choice `?`."""
    document: dict[str, Any] = {
        "docket": FORMAT,
        "package": {"name": docket.package, "version": docket.version, "digest": docket.package_digest},
        "target": {"name": docket.target, "uid": docket.target_uid},
        "ledger": docket.ledger_uid,
        "fingerprint": docket.fingerprint,
        "custody": docket.custody.value,
        "if_it_fails": "put-back",
        "since": docket.since,
        "without": list(docket.without),
        "bindings": {one.need.key: one.value for one in docket.mapped if one.native is not None},
        "items": {action.key: _item(action) for action in docket.actions}
        | {key: {"action": "leave", "reason": "left out", "choice": "leave"} for key in docket.left_out},
        "no_longer_packed": {one.key: _retirement(one) for one in docket.retirements},
        "aftercare": [f"enter {token} in {key}" for key, token in docket.to_enter],
    }
    write_text(path, _HEADER + dump_yaml(document))


def read_docket(path: Path) -> DocketFile:
    """Reads a docket with the choices in it; UsageFault for what is no choice."""
    document = load_yaml(path)
    try:
        if document["docket"] != FORMAT:
            raise _fault(path, f"It has format {document['docket']}; this Amphora reads {FORMAT}.")
        return DocketFile(
            package=str(document["package"]["name"]),
            version=str(document["package"]["version"]),
            package_digest=str(document["package"]["digest"]),
            target=str(document["target"]["name"]),
            target_uid=str(document["target"]["uid"]),
            ledger_uid=str(document["ledger"]),
            fingerprint=str(document["fingerprint"]),
            custody=str(document["custody"]),
            choices={str(key): _choices(path, key, item) for key, item in document["items"].items()},
            sides=_sides(document["items"]),
            since=str(document.get("since") or ""),
            without=tuple(map(str, document.get("without") or ())),
            fates={
                str(key): _fate(path, key, row["choice"])
                for key, row in (document.get("no_longer_packed") or {}).items()
            },
        )
    except (KeyError, TypeError, AttributeError) as error:
        raise _fault(path, f"It lacks {error}.") from error


def _item(action: Action) -> dict[str, Any]:
    row: dict[str, Any] = {"action": action.do.value, "reason": action.reason}
    if action.comparison and action.comparison.changes:
        row["changes"] = {change.place or "/": _change(change) for change in action.comparison.changes}
    return row


def _retirement(one: Retirement) -> dict[str, Any]:
    row: dict[str, Any] = {"title": one.present.states.title, "rows": one.present.rows or 0}
    row |= {"used_by": list(one.users)} if one.users else {}
    return row | {"choice": one.fate.value}


def _sides(items: Mapping[str, Any]) -> dict[tuple[Key, str], str]:
    """The three values of each change, as they were when the docket was made."""
    found = {}
    for key, item in items.items():
        for place, row in (item.get("changes") or {}).items():
            values = (
                _plain(row[name]) if name in row else MISSING for name in ("last-delivered", "target", "package")
            )
            found[str(key), "" if place == "/" else str(place)] = FieldChange("", By.CLASH, *values).sides
    return found


def _fate(path: Path, key: Any, choice: Any) -> str:
    if choice not in tuple(Fate):
        raise _fault(path, f"{choice!r} is no choice for {key}: stay, retire or let-go.")
    return str(choice)


def _change(change: FieldChange) -> dict[str, Any]:
    sides = {"last-delivered": change.last_delivered, "target": change.target, "package": change.package}
    row: dict[str, Any] = {"changed_by": change.by.value}
    row |= {name: value for name, value in sides.items() if value is not MISSING}
    if change.is_open:
        row["choice"] = OPEN
    elif change.choice is not None:
        row["choice"] = change.choice
    return row


def _choices(path: Path, key: Any, item: Mapping[str, Any]) -> dict[str, Json]:
    result: dict[str, Json] = {}
    if item.get("choice") == "leave":
        return {"*": "leave"}
    if "choice" in item:
        result["*"] = _choice(path, key, "the whole item", item["choice"])
    for place, change in (item.get("changes") or {}).items():
        if "choice" in change and change["choice"] != OPEN:
            result["" if place == "/" else str(place)] = _choice(path, key, place, change["choice"])
    return result


def _choice(path: Path, key: Any, place: Any, choice: Any) -> Json:
    if isinstance(choice, dict) and set(choice) == {"value"}:
        return {"value": _plain(choice["value"])}
    if choice not in CHOICES:
        raise _fault(path, f"{choice!r} is no choice for {key} at {place}.")
    return str(choice)


def _plain(value: Any) -> Json:
    if isinstance(value, dict):
        return {str(name): _plain(part) for name, part in value.items()}
    if isinstance(value, list):
        return [_plain(part) for part in value]
    for kind in (bool, int, float, str):
        if isinstance(value, kind):
            return kind(value)
    return None


def _fault(path: Path, reason: str) -> UsageFault:
    return UsageFault(
        f"{path} is no docket that can be used. {reason}",
        subject=str(path),
        next_step=f"Choices are {', '.join(CHOICES)} or {{value: …}}; a new docket: amphora compare … --docket FILE",
    )
