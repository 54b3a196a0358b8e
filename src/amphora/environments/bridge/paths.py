"""Places in answers (RFC 9535), and placeholders in what is sent."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import quote, unquote

from amphora.core.form.blanks import with_missing
from amphora.core.form.native_ids import around
from amphora.core.form.places import parse_path, values_at
from amphora.core.form.visit import GONE
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import without_value
from amphora.core.values.tokens import MASK
from amphora.environments.bridge.lines import PLACEHOLDER


def value_at(document: Json, path: str) -> Json:
    """The first of what stands at a path; None where nothing does."""
    return next(iter(values_at(document, path)), None)


def place_of(path: str, values: Mapping[str, Json]) -> str:
    """A place in an answer, with what stands for placeholders in it as literals (RFC 9535, section 2.3.5.1): an entry
    of a list is found by what it is called."""
    return _LITERAL.sub(lambda found: _literal(values.get(found[2]), bool(found[1])), path)


_LITERAL = re.compile(r"(['\"]?)\{([a-z_]+)\}\1")


def _literal(value: Json, is_text: bool) -> str:
    if isinstance(value, int) and not is_text:
        return str(value)
    text = str("" if value is None else value).replace("\\", "\\\\").replace("'", "\\'")
    return f"'{text}'"


NULL = "{null}"
"""What stands for null in a sheet: TOML has no word for it."""


def unwritten(value: Json) -> Json:
    """A value of a sheet as JSON has it."""
    return None if value == NULL else value


@dataclass(frozen=True)
class Flag:
    """Something that is so or not: where that stands, and what stands there if it is (`values`). Without them
    whatever is neither nothing, false nor zero; of words, if they have to be known (`is_strict`), only plain ones."""

    at: str
    values: tuple[Json, ...] = ()
    is_strict: bool = False

    def holds(self, document: Json) -> bool:
        """Whether it is so. ValueError where what stands there is a word that nobody has explained."""
        found = value_at(document, self.at)
        if self.values:
            # By type as well: 1 and true are equal in Python and two things in JSON.
            return any(found == value and type(found) is type(value) for value in self.values)
        word = found.strip().lower() if isinstance(found, str) else ""
        # A time or a version is a live one; a state that nobody explained is no switch.
        if self.is_strict and word not in (*_YES, *_NO):
            raise ValueError(found)
        return word not in _NO if isinstance(found, str) else bool(found)


_YES, _NO = ("true", "on", "yes", "1"), ("false", "off", "no", "0", "")


def with_hidden(form: Json, places: Sequence[str]) -> Json:
    """A definition with masks for secrets that are there and never shown, wherever the object that holds one is."""
    return with_missing(form, places, lambda: MASK)


def is_list(path: str) -> bool:
    """Whether a place of a definition is a list of what stands at several places."""
    # Only this sign: an index or a filter means one place, or places that nothing can be written to.
    return "[*]" in path


_SEGMENT = re.compile(r"""\[(?:[^\]\['"]|'(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*"|\[[^\]]*\])*\]|\.{1,2}[^.\[]*""")
"""One segment of a path: a name, or selectors in brackets, with texts and places in them."""


def holds_list(document: Json, path: str) -> bool:
    """Whether there is a list where a path leads into one, though it, or what a filter leaves of it, may be empty."""
    segments = _SEGMENT.findall(path)
    while segments:
        segments.pop()
        # The nearest that stands there says what is empty: without groups there are no lists in them either.
        if found := values_at(document, "".join(["$", *segments])):
            return any(isinstance(one, list) for one in found)
    return False


def listed_count(document: Json, path: str) -> int:
    """How many entries a list has that a path leads into: those that a filter leaves out as well."""
    segments = _SEGMENT.findall(path)
    # From the first filter on everything depends on it.
    place = next((number for number, text in enumerate(segments) if text.startswith("[?")), len(segments))
    return len(values_at(document, "".join(["$", *segments[:place], *(["[*]"] if place < len(segments) else [])])))


def unkeyed(document: Json, path: str, name: str) -> Json:
    """A document in which an object whose member names are ids is the list of what they stand for, each with its id
    as the member `name`."""

    def listed(value: Json) -> Json:
        if not isinstance(value, dict):
            return value
        return [{name: key, **(part if isinstance(part, dict) else {"value": part})} for key, part in value.items()]

    return listed(document) if path == "$" else changed_at(document, path, listed)


def is_told_empty(body: Json, path: str) -> bool:
    """Whether an answer says that there is nothing at a place, and is not merely another answer: a null, or a list
    that has no such entry."""
    holder, _, index = path.partition("[?") if "[?" in path else path.rpartition("[")
    is_index = "[?" in path or index.rstrip("]").isdigit()
    is_entry = is_index and isinstance(value_at(body, holder or "$"), list)
    return is_entry or values_at(body, path) == [None]


def member_path(name: str) -> str:
    """The place of a member by its name in a sheet: dots lead into objects (`site.id`), and whatever else no name in
    shorthand may hold (RFC 9535, section 2.5.1.1) is quoted (`form@bind`)."""
    steps = name.split(".") if _DOTTED.fullmatch(name) else [name]
    return "$" + "".join(f".{step}" if _SHORT.fullmatch(step) else f"[{json.dumps(step)}]" for step in steps)


def member_name(path: str) -> str:
    """The inverse of `member_path`, for places of names only; others as they are."""
    if path.startswith("$.") and _DOTTED.fullmatch(path[2:]):
        return path[2:]
    steps = parse_path(path)[1] if path.startswith("$") else None
    return path if not steps or None in steps else ".".join(str(step) for step in steps)


_SHORT = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_DOTTED = re.compile(r"[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)*")


def is_in(member: str, names: Collection[str]) -> bool:
    """Whether a member is one of these, or stands inside of one."""
    return any(member == name or member.startswith(f"{name}.") for name in names)


def written_at(path: str) -> str:
    """Where a place of a definition is written: a list in the member that the objects stood in."""
    return path.partition("[*]")[0]


def text_at(document: Json, path: str | None) -> str:
    """The same as text: numbers as they are written, nothing as nothing."""
    found = value_at(document, path) if path else None
    if found is None or isinstance(found, dict | list):
        return ""
    return str(found).lower() if isinstance(found, bool) else str(found)


def with_id(document: Json, path: str, form: str) -> Json:
    """A row or an answer with the bare id at a path, where the platform writes it inside of something longer (`form`,
    with `{id}` in it); as it is where no such text stands there, which is then told like an id that is missing."""
    if not form:
        return document
    return changed_at(document, path, lambda _: bare_id(text_at(document, path), form) or None)


def bare_id(text: str, form: str) -> str:
    """The id inside of a longer text; empty where that is written otherwise."""
    found = around(form, "[^/?#]+").fullmatch(text)
    # As in addresses: placeholders in paths are encoded anew.
    return unquote(found["id"]) if found else ""


def put(document: dict[str, Any], path: str, value: Json) -> None:
    """Puts a value at a plain path of objects, which are made on the way, also where null takes one away. SheetFault
    where the path is none, or something else than an object stands on the way."""
    _, steps = parse_path(path)
    names = [step for step in steps or () if step is not None]
    if not steps or len(names) < len(steps):
        raise SheetFault(
            f"Nothing can be written at {path!r}: only names may stand in it.",
            subject=path,
            next_step=advice("Name the members one after the other, as in $.settings.title."),
        )
    for name in names[:-1]:
        if document.get(name) is None:
            document[name] = {}
        document = document[name]
        if not isinstance(document, dict):
            raise SheetFault(
                f"Nothing can be written at {path!r}: what stands at {name!r} is no object.",
                subject=path,
                next_step=advice("Name a place whose members before the last one are objects."),
            )
    document[names[-1]] = value


def dropped(document: Json, path: str) -> Json:
    """The document without the members that stand at a path; in an array what stands there stays."""
    query, steps = parse_path(path)
    if steps is not None:
        return changed_at(document, path, lambda value: GONE)
    for *way, name in [node.location for node in query.find(document)]:
        if isinstance(name, str):
            document = without_value(document, (*map(str, way), name))
    return document


def changed_at(document: Json, path: str, change: Callable[[Json], Json]) -> Json:
    """The document with what stands at a plain path, in which wildcards may stand, made into something else, or GONE
    from its object. SheetFault for another path."""
    _, steps = parse_path(path)
    if steps is None:
        raise SheetFault(
            f"{path!r} has to be made of names, numbers, [*] and .* only.",
            subject=path,
            next_step=advice("Say it once for each name, and without filters."),
        )
    # The document itself stays: there is nothing that it could be gone from.
    return _changed(document, tuple(steps), change) if steps else document


def _changed(value: Json, steps: tuple[str | None, ...], change: Callable[[Json], Json]) -> Json:
    if not steps:
        return change(value)
    step, rest = steps[0], steps[1:]
    if isinstance(value, list):
        parts = [_changed(part, rest, change) if step in (None, str(n)) else part for n, part in enumerate(value)]
        # In an array it stays: the others would move up, and be other ones.
        return [old if new is GONE else new for old, new in zip(value, parts, strict=True)]
    if not isinstance(value, dict):
        return value
    members = {name: _changed(part, rest, change) if step in (None, name) else part for name, part in value.items()}
    return {name: part for name, part in members.items() if part is not GONE}


def filled(value: Json, values: Mapping[str, Json], is_path: bool = False) -> Json:
    """A text, or all texts of a document, with its placeholders filled in; one that stands alone keeps the type of
    its value. In a path they are encoded (RFC 3986)."""
    if isinstance(value, dict):
        # The first page has no mark to begin at, and an empty one is wrong to many.
        first = "{cursor}" if values.get("cursor") == "" else None
        return {name: filled(part, values) for name, part in value.items() if first is None or part != first}
    if isinstance(value, list):
        return [filled(part, values) for part in value]
    if not isinstance(value, str):
        return value
    if value == NULL and not is_path:
        return None
    if not is_path and (alone := PLACEHOLDER.fullmatch(value)) and (known := _standing(values, alone[1])):
        return known[0]
    if is_path:
        value = _EMPTY.sub(lambda found: "" if values.get(found[2], found) in ("", None) else found[0], value)
    # What nobody knows stays: braces may be the platform's own.
    return PLACEHOLDER.sub(lambda found: _text(values, found[1], found[0], is_path), value)


MEMBERS_OF = {"entry": "entry.*", "value": "value"}
"""Under which names the wholes stand whose members placeholders name."""


def _standing(values: Mapping[str, Json], name: str) -> list[Json]:
    """The one thing that stands for a placeholder; none where nobody knows it."""
    if name in values:
        return [values[name]]
    whole, _, member = name.partition(".")
    is_member = member and MEMBERS_OF[whole] in values
    return [value_at(values[MEMBERS_OF[whole]], member_path(member))] if is_member else []


_EMPTY = re.compile(r"(?<=[?&])([^=&]+)=\{([a-z_]+)\}(?:&|$)")
"""A parameter of a query that is one placeholder: where that stands for nothing, it is left out."""


def _text(values: Mapping[str, Json], name: str, whole: str, is_path: bool) -> str:
    # Where slashes lead into folders: an id that is a path, and the path of what is about to be made.
    if name == "path" and "id" in values:
        text, kept = str(values["id"]).strip("/"), "/"
    elif name == "place" and "title" in values:
        text, kept = "/".join(filter(None, (str(values.get("folder") or ""), str(values["title"])))), "/"
    elif known := _standing(values, name):
        is_nothing = "." in name and known[0] in (None, "")
        # In a path nothing would lead to all of them.
        if is_nothing and is_path:
            return whole
        text, kept = "" if is_nothing else str(known[0]), ""
    else:
        return whole
    return quote(text, safe=kept) if is_path and name != "location" else text


def moment_of(value: Json) -> str | None:
    """A time as RFC 3339 in UTC: platforms write it so, as in mails, or as seconds or milliseconds since 1970. None
    where it is something else."""
    if isinstance(value, bool) or value is None:
        return None
    try:
        if isinstance(value, int | float) or (isinstance(value, str) and value.replace(".", "", 1).isdigit()):
            number = float(value)
            # Later than the year 5000 in seconds: they are milliseconds.
            when = datetime.fromtimestamp(number / 1000 if number > 1e11 else number, UTC)
        else:
            text = str(value).strip()
            # As mail and the headers of HTTP write it (RFC 5322), where it begins with the day of the week.
            when = parsedate_to_datetime(text) if text[:1].isalpha() else datetime.fromisoformat(text)
            when = when.astimezone(UTC) if when.tzinfo else when.replace(tzinfo=UTC)
    except (ValueError, OverflowError, OSError):
        return None
    return when.strftime("%Y-%m-%dT%H:%M:%SZ")
