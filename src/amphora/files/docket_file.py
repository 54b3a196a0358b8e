"""`NAME.ENVIRONMENT.docket.yaml`: a docket that people read, answer, keep and use later. All that stands in it is
honoured, or refused with its line (`reviewed`)."""

from __future__ import annotations

import codecs
import math
from collections.abc import Iterable, Mapping
from dataclasses import field
from pathlib import Path
from typing import Any

from amphora.core.form.bindings import MISSING
from amphora.core.form.routes import told
from amphora.core.merge.merge import LAST_DELIVERED, PACKAGE, TARGET, By, FieldChange
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.arrivals import AS_PACKED, Arrival
from amphora.core.plan.decisions import AUTO, IDS, LEAVE, Decisions, ItemDecision
from amphora.core.plan.docket import Custody, Docket, IfItFails, Parting, Retirement
from amphora.core.values.canon import LARGEST_INTEGER
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.near import near
from amphora.core.values.next_step import advice, blank, to_type
from amphora.files.schemas import first_line
from amphora.files.yaml_text import dump_yaml, load_yaml, write_text

FORMAT = 1
OPEN = "?"
AGREED = "agreed"
"""The member in which people sign what stands in all the others."""
ACTION_FOLLOWS = "An action follows from the choices; an item that is to stay out gets the line: choice: leave."
CHOICES = (PACKAGE, TARGET, LAST_DELIVERED)
_NAMES = (
    "docket",
    "package",
    "target",
    "ledger",
    "fingerprint",
    "custody",
    "if_it_fails",
    "on_arrival",
    "converted",
    "ids",
    "same",
    "pause_after",
    "since",
    "without",
    "with",
    "bindings",
    "items",
    "no_longer_packed",
    "breaks",
    "aftercare",
    AGREED,
)
HEADER = """\
# The docket of an import: what it will do, item by item. Answer each choice that is "?" with
#   package | target | last-delivered, or with a mapping {value: …};
# or give a choice for a whole item (there also: leave, for an item that stays out of this import).
# What the package no longer holds stays in the target, unless its choice is retire or let-go.
# Then: amphora import THIS-FILE
"""


@dataclass(frozen=True)
class DocketFile:
    """What somebody decided, and what it was decided about. `document` is the file as it was read, with its lines."""

    package: str
    version: str
    package_digest: str
    target: str
    target_uid: str
    ledger_uid: str
    fingerprint: str
    decisions: Decisions
    document: Any = field(repr=False)
    sides: Mapping[tuple[Key, str], str] = field(default_factory=dict)
    since: str = ""
    source: str = ""


def is_docket(path: Path) -> bool:
    """Whether a file is a docket, by what stands in it."""
    try:
        with path.open("rb") as file:
            start = file.read(1 << 16).removeprefix(codecs.BOM_UTF8)
    except OSError:
        return False
    # By the contents: a docket that was renamed is one still, and a package named `x.docket.yaml` is none.
    return b"\0" not in start and any(line.startswith(b"docket:") for line in start.splitlines())


def write_docket(path: Path, docket: Docket) -> None:
    """Writes a docket; open questions get the choice `?`."""
    write_text(path, first_line(path, "docket") + HEADER + dump_yaml(document_of(docket)))


def document_of(docket: Docket) -> dict[str, Any]:
    """A docket as the document that stands in its file."""
    # In words, for people: nothing of it is read back, for it follows from package and target.
    converted = told(docket.converted)
    package = {"name": docket.package, "version": docket.version, "digest": docket.package_digest}
    return {
        "docket": FORMAT,
        "package": package | ({"file": docket.source_file} if docket.source_file else {}),
        "target": {"name": docket.target, "uid": docket.target_uid},
        "ledger": docket.ledger_uid,
        "fingerprint": docket.fingerprint,
        "custody": docket.custody.value,
        "if_it_fails": docket.if_it_fails.value,
        "on_arrival": {key: _arrival_row(one) for key, one in docket.arrivals.items()},
        **({"converted": converted} if converted else {}),
        **({"ids": docket.ids} if docket.ids != AUTO else {}),
        **({"same": list(docket.same)} if docket.same else {}),
        **({"pause_after": dict(docket.pause_after)} if docket.pause_after else {}),
        "since": docket.since,
        "without": list(docket.without),
        "with": ["records"] if docket.has_records else [],
        # By the names that people know, not by native ids: this is what somebody agrees to.
        "bindings": {one.need.key: one.value for one in docket.mapped if one.native is not None},
        "items": {action.key: _item(action) for action in docket.actions}
        | {key: {"action": "leave", "reason": "left out", "choice": LEAVE} for key in docket.left_out},
        "no_longer_packed": {one.key: _retirement(one) for one in docket.retirements},
        **({"breaks": broken} if (broken := _broken(docket)) else {}),
        "aftercare": [task.words for task in docket.care],
    }


def read_docket(path: Path) -> DocketFile:
    """Reads a docket with the choices in it; UsageFault, with the line, for what can be no docket at all."""
    # With its lines: whoever edits a docket by hand is told where.
    document = load_yaml(path)
    if not isinstance(document, Mapping) or "docket" not in document:
        raise fault(path, "It does not begin with the word docket.")
    for name in document:
        if name not in _NAMES:
            raise unknown(path, document, name, _NAMES)
    # A newer docket may hold decisions that this build would pass over in silence.
    if document["docket"] != FORMAT:
        raise fault(path, f"It has format {document['docket']}; this Amphora reads {FORMAT}.", document, "docket")
    try:
        package, target = _table(path, document, "package"), _table(path, document, "target")
        items = _table(path, document, "items")
        _refuse_shapes(path, document, items)
        decisions = Decisions(
            {str(key): _decision(path, items, key) for key in items},
            {str(key): _fate(path, key, row) for key, row in _table(path, document, "no_longer_packed").items()},
            _custody(path, document),
            _texts(path, document, "without"),
            records="records" in (_texts(path, document, "with") if "with" in document else ()),
            file=str(path),
            if_it_fails=_if_it_fails(path, document),
            arrivals=_arrivals(path, document),
            ids=_ids(path, document),
            pause_after=_words(path, document),
            same=_texts(path, document, "same") if "same" in document else (),
        )
        return DocketFile(
            package=str(package["name"]),
            version=str(package["version"]),
            package_digest=str(package["digest"]),
            target=str(target["name"]),
            target_uid=str(target["uid"]),
            ledger_uid=str(document["ledger"]),
            fingerprint=str(document["fingerprint"]),
            decisions=decisions,
            document=document,
            sides=_sides(path, items),
            since=str(document["since"] or ""),
            source=str(package.get("file") or ""),
        )
    # What every docket has is asked for by name: the first that is missing is told.
    except KeyError as error:
        raise fault(path, f"It lacks {error}.") from error


def line_of(holder: Any, name: Any) -> str:
    """Where a member stands in a document that was read, as people say it."""
    # Only what the YAML reader made knows its lines; what was made here has none.
    places = getattr(holder, "lc", None)
    try:
        line = places.key(name)[0] if isinstance(holder, Mapping) else places.item(name)[0]  # type: ignore[union-attr]
    except (AttributeError, KeyError, TypeError):
        line = getattr(places, "line", None)
    return f"line {line + 1}" if isinstance(line, int) else ""


def unknown(path: Path, mine: Any, name: Any, known: Iterable[str]) -> UsageFault:
    """That nobody knows a name where it stands, with the one that may have been meant."""
    found = near(str(name), map(str, known))
    hint = f" Perhaps {found[0]}?" if found else ""
    return fault(path, f"Nothing is known of {str(name)!r} there.{hint}", mine, name)


def fault(path: Path, reason: str, holder: Any = None, name: Any = None) -> UsageFault:
    """The refusal of something in a docket."""
    return UsageFault(
        f"{path} is no docket that can be used. {reason}",
        subject=str(path),
        place=line_of(holder, name) or None,
        next_step=advice(
            f"Choices are {', '.join(CHOICES)} or {{value: …}}; for a new docket",
            to_type("compare", blank("…"), "--docket", blank("FILE")),
        ),
    )


def json_of(value: Any, path: Path, holder: Any, name: Any, is_chosen: bool = False) -> Json:
    """A YAML value as the JSON value that it stands for; UsageFault for what JSON can't hold, and for numbers in what
    is chosen that others would read otherwise. What a target holds may hold such."""
    if isinstance(value, Mapping):
        return {str(member): json_of(part, path, value, member, is_chosen) for member, part in value.items()}
    if isinstance(value, list):
        return [json_of(part, path, value, number, is_chosen) for number, part in enumerate(value)]
    # Before the numbers: in Python True is one.
    if value is None or isinstance(value, bool):
        return value
    if is_chosen and isinstance(value, int) and abs(value) > LARGEST_INTEGER:
        raise fault(path, f"{value} is beyond 2^53-1, where JSON numbers lose digits.", holder, name)
    if isinstance(value, float) and not math.isfinite(value):
        raise fault(path, f"{value} is no number that JSON has.", holder, name)
    # Plain ones: the reader gives subclasses that remember how they were written, which no digest expects.
    for kind in (int, float, str):
        if isinstance(value, kind):
            return kind(value)
    raise fault(path, f"{value!r} is neither text, number nor yes/no: put it in quotation marks.", holder, name)


def _refuse_shapes(path: Path, document: Any, items: Mapping[Any, Any]) -> None:
    """UsageFault for what is shown to people and can't be what it says: looked at once, so that nobody who shows or
    signs a docket has to ask."""
    for key, row in items.items():
        if isinstance(row, Mapping) and row.get("action") not in tuple(Do):
            holder, name = (row, "action") if "action" in row else (items, key)
            raise fault(path, ACTION_FOLLOWS, holder, name)
    for key, row in _table(path, document, "no_longer_packed").items():
        if isinstance(row, Mapping) and not (isinstance(row.get("title"), str) and isinstance(row.get("rows"), int)):
            raise fault(path, f"{key} has a title and a number of rows.", row, "title")
    _texts(path, document, "aftercare")


def _table(path: Path, document: Any, name: str) -> Mapping[Any, Any]:
    table = document[name]
    if table is None and name == "no_longer_packed":
        return {}
    if not isinstance(table, Mapping):
        raise fault(path, f"`{name}` has to be a mapping.", document, name)
    return table


def _item(action: Action) -> dict[str, Any]:
    # The reason beside the action: a reviewer asks why before anything else.
    row: dict[str, Any] = {"action": action.do.value, "reason": action.reason}
    if action.comparison and action.comparison.changes:
        row["changes"] = {change.place or "/": _change(change) for change in action.comparison.changes}
    return row


def _broken(docket: Docket) -> dict[Key, list[str]]:
    """What beside the package would no longer find a part that it uses, with these."""
    found: dict[Key, list[str]] = {}
    for user, key, part in docket.severed:
        found.setdefault(user, []).append(f"{key}#{part}")
    return found


def _retirement(one: Retirement) -> dict[str, Any]:
    row: dict[str, Any] = {"title": one.present.states.title, "rows": one.present.rows or 0}
    row |= {"used_by": list(one.users)} if one.users else {}
    row |= {"goes_along_with": one.along} if one.along else {}
    return row | {"choice": one.fate.value}


def _sides(path: Path, items: Mapping[Any, Any]) -> dict[tuple[Key, str], str]:
    """The three values of each change, as they were when the docket was made."""
    found = {}
    for key, item in items.items():
        for place, row in (item.get("changes") or {}).items():
            values = (
                json_of(row[name], path, row, name) if name in row else MISSING
                for name in ("last-delivered", "target", "package")
            )
            found[str(key), "" if place == "/" else str(place)] = FieldChange("", By.CLASH, *values).sides
    return found


def _custody(path: Path, document: Any) -> Custody:
    if document["custody"] not in tuple(Custody):
        raise fault(path, f"custody is package or target, not {document['custody']!r}.", document, "custody")
    return Custody(document["custody"])


def _arrival_row(one: Arrival) -> dict[str, str]:
    return {name: value for name, value in (("title", one.title), ("folder", one.folder)) if value}


def _arrivals(path: Path, document: Any) -> dict[Key, Arrival]:
    # Dockets of earlier builds have none.
    table = document.get("on_arrival") or {}
    if not isinstance(table, Mapping):
        raise fault(path, "`on_arrival` has to be a mapping.", document, "on_arrival")
    found = {}
    for key, row in table.items():
        if not isinstance(row, Mapping) or set(row) - {"title", "folder"}:
            raise fault(path, f"What stands at {key} is neither title nor folder.", table, key)
        for name, value in row.items():
            if not isinstance(value, str):
                raise fault(path, f"The {name} of {key} has to be text.", row, name)
        found[str(key)] = Arrival(str(row.get("title", AS_PACKED)), str(row.get("folder", AS_PACKED)))
    return found


def _words(path: Path, document: Any) -> dict[Key, str]:
    table = document.get("pause_after") or {}
    if not isinstance(table, Mapping) or not all(isinstance(about, str) for about in table.values()):
        raise fault(path, "`pause_after` has to be a mapping of items to texts.", document, "pause_after")
    return {str(key): str(about) for key, about in table.items()}


def _texts(path: Path, document: Any, name: str) -> tuple[str, ...]:
    held = document[name]
    # Nothing behind the colon is an empty list to whoever typed it; a single word without brackets is not.
    if held is not None and not (isinstance(held, list) and all(isinstance(one, str) for one in held)):
        raise fault(path, f"`{name}` has to be a list of texts.", document, name)
    return tuple(map(str, held or ()))


def _ids(path: Path, document: Any) -> str:
    if (ids := document.get("ids", AUTO)) not in IDS:
        raise fault(path, f"ids is {', '.join(IDS)}, not {ids!r}.", document, "ids")
    return str(ids)


def _if_it_fails(path: Path, document: Any) -> IfItFails:
    if document["if_it_fails"] not in tuple(IfItFails):
        words = f"if_it_fails is put-back or keep, not {document['if_it_fails']!r}."
        raise fault(path, words, document, "if_it_fails")
    return IfItFails(document["if_it_fails"])


def _fate(path: Path, key: Any, row: Any) -> str:
    choice = row.get("choice") if isinstance(row, Mapping) else None
    if choice not in tuple(Parting):
        raise fault(path, f"{choice!r} is no choice for {key}: stay, retire or let-go.", row, "choice")
    return str(choice)


def _change(change: FieldChange) -> dict[str, Any]:
    sides = {"last-delivered": change.last_delivered, "target": change.target, "package": change.package}
    row: dict[str, Any] = {"changed_by": change.by.value}
    # A side that is absent is left out, for null is a value like any other.
    row |= {name: value for name, value in sides.items() if value is not MISSING}
    if change.is_open:
        row["choice"] = OPEN
    elif change.choice is not None:
        row["choice"] = change.choice
    return row


def _decision(path: Path, items: Mapping[Any, Any], key: Any) -> ItemDecision:
    item = items[key]
    if not isinstance(item, Mapping) or not isinstance(item.get("changes") or {}, Mapping):
        raise fault(path, f"What stands at {key} is no line of a docket.", items, key)
    whole = ""
    # Places first answer for themselves; a choice for the whole item is for those that say nothing.
    if "choice" in item and item["choice"] != OPEN:
        if item["choice"] not in (*CHOICES, LEAVE):
            raise fault(path, f"{item['choice']!r} is no choice for {key}.", item, "choice")
        whole = str(item["choice"])
    places: dict[str, Json] = {}
    for place, change in (item.get("changes") or {}).items():
        if not isinstance(change, Mapping):
            raise fault(path, f"What stands at {key} at {place} is no change.", item["changes"], place)
        if "choice" in change and change["choice"] != OPEN:
            places["" if place == "/" else str(place)] = _choice(path, key, place, change)
    return ItemDecision(whole, places)


def _choice(path: Path, key: Any, place: Any, change: Mapping[str, Any]) -> Json:
    choice = change["choice"]
    # Exactly that: a second member beside it would be something that nobody honours.
    if isinstance(choice, Mapping) and set(choice) == {"value"}:
        return {"value": json_of(choice["value"], path, choice, "value", is_chosen=True)}
    if choice not in CHOICES:
        raise fault(path, f"{choice!r} is no choice for {key} at {place}.", change, "choice")
    return str(choice)
