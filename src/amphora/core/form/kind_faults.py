"""What is wrong with a kind sheet, each with its line: an unknown key would be a rule that nobody obeys."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from amphora.core.form.conversions import FIELDS as _CONVERSION
from amphora.core.form.conversions import parse_conversion
from amphora.core.form.places import has_pieces, is_part_alone, parse_path
from amphora.core.form.settings import TYPES
from amphora.core.values.errors import SheetFault
from amphora.core.values.strict_toml import line_of, row_of, unfit

FIELDS = {
    "parts": dict,
    "named": dict,
    "settings": dict,
    "unordered": list,
    "text": list,
    "layout": list,
    "order": list,
    "volatile": list,
    "secret": list,
    "files": list,
    "features": list,
    "region": list,
    "outward": list,
    "data": list,
    "json": list,
}
_TOP = {
    "kind": str,
    "title": str,
    "plural": str,
    "carried": bool,
    "schema": int,
    "access": list,
    "shape": str,
    "start": bool,
    "refers": list,
    "fields": dict,
    "states": dict,
    "ids": dict,
    "mention": list,
    "part": list,
    "conversion": list,
    "pause": dict,
    "connection": dict,
}
_CONNECTION = {"types": list, "members": list, "words": list, "never": list}
_PAUSE = {"who": str, "do": str, "show": dict}
_REFERS = {
    "at": str,
    "to": list,
    "required": bool,
    "known_only": bool,
    "object": str,
    "object_parts": str,
    "object_unless": str,
    "object_query": str,
    "form": str,
    "part": dict,
    "members": bool,
    "by": str,
    "dead": str,
    "follows": bool,
    "space": str,
    "hollow": str,
    "held": bool,
}
_WORDS = {"by": ("id", "title", "uid"), "dead": ("told", "left out"), "hollow": ("id", "object")}
_VALUES = frozenset({"setting", "url", "secret"})
_IDS = {"space": str, "number": bool, "within": str}
_MENTION = {"pattern": str, "kind": str, "by": str}
_PART = {"at": str, "of": str, "parts": str, "id": str, "name": str, "members": bool, "alone": bool}
_STATES = {"switch": (str, bool), "publish": bool}
_PATHS_OF = {
    "refers": ("at", "object_parts", "object_unless", "object_query"),
    "part": ("at", "parts", "id", "name"),
    "refers.part": ("parts", "id", "name"),
}
"""Where paths stand in the rows of a sheet; in `fields` they stand everywhere."""
_NAMES_OF_PATHS = ("named", "settings")
_BELONGING_TO: dict[str, dict[str, Any]] = {
    "[fields]": FIELDS,
    "[states]": _STATES,
    "[ids]": _IDS,
    "[[refers]]": _REFERS,
    "[[mention]]": _MENTION,
    "[[part]]": _PART,
    "[pause]": _PAUSE,
    "[connection]": _CONNECTION,
}


def faults_of(table: Mapping[str, Any], source: str) -> Iterable[str]:
    """Everything that is wrong with the table of a kind sheet; `source` is its text."""
    if "kind" not in table:
        yield "`kind` is missing"
    yield from _unfit(table, _TOP, "", source)
    # Of the wrong type it has been told above.
    for name, known in (("fields", FIELDS), ("states", _STATES), ("pause", _PAUSE), ("connection", _CONNECTION)):
        if isinstance(part := table.get(name, {}), dict):
            yield from _unfit(part, known, f"{name}.", source)
            yield from _texts(name, part, source)
    yield from _types(table.get("fields"), source)
    yield from _paths(table, source)
    ids = table.get("ids", {})
    if isinstance(ids, dict):
        yield from _unfit(ids, _IDS, "ids.", source)
        if ids.get("within") and not ids.get("space"):
            yield f"{line_of(source, 'within', 'ids')}`ids.within` needs `ids.space`, too"
    ways = {"mention": _mention, "part": _part, "conversion": _conversion, "refers": _refer}
    for name, faults in ways.items():
        for number, row in enumerate(_rows(table, name)):
            # Of several rows the line is that of the one that is meant.
            yield from faults(row, row_of(source, name, number))
    yield from _several(_rows(table, "refers"), source)


def _unfit(row: Mapping[str, Any], known: Mapping[str, Any], before: str, source: str) -> Iterable[str]:
    return unfit(row, known, before, source, "a kind sheet", _BELONGING_TO)


def _rows(table: Mapping[str, Any], name: str) -> list[Any]:
    rows = table.get(name, [])
    return rows if isinstance(rows, list) else []


def _texts(table: str, part: Mapping[str, Any], source: str) -> Iterable[str]:
    """Lists of paths or words, and tables of paths: what counts is that every end of it is a text."""
    for name, ends in part.items():
        given = ends if isinstance(ends, list) else ends.values() if isinstance(ends, dict) else ()
        if not all(isinstance(end, str) for end in given):
            yield f"{line_of(source, name)}`{table}.{name}` has to hold texts only"


def _types(fields: Any, source: str) -> Iterable[str]:
    """A type that is none would be taken for a choice of one value, which no value is."""
    settings = fields.get("settings") if isinstance(fields, dict) else None
    for type_ in settings.values() if isinstance(settings, dict) else ():
        if isinstance(type_, str) and type_ not in TYPES and "|" not in type_:
            words = f"{type_!r} is no type: {', '.join(TYPES)}, or a choice (low|high)"
            yield f"{line_of(source, 'settings')}`fields.settings`: {words}"


def _paths(table: Mapping[str, Any], source: str) -> Iterable[str]:
    """Paths that are none, before anything is looked for by them."""
    for where, path, text in _written_paths(table, source):
        try:
            parse_path(path)
        except SheetFault as error:
            within, _, name = where.rpartition(".")
            yield f"{line_of(text, name, within, path)}`{where}`: {error.message}"


def _written_paths(table: Mapping[str, Any], source: str) -> Iterable[tuple[str, str, str]]:
    """Whatever is to be a path, with the member that it stands in and the text to look for it in: of several rows its
    own."""
    fields, pause, states = (table.get(name) for name in ("fields", "pause", "states"))
    found: list[tuple[str, Any, str]] = []
    for name, ends in fields.items() if isinstance(fields, dict) else ():
        is_named = isinstance(ends, dict) and name in _NAMES_OF_PATHS
        given = ends if is_named or isinstance(ends, list) else getattr(ends, "values", list)()
        found += [(f"fields.{name}", path, source) for path in given]
    if isinstance(pause, dict) and isinstance(shown := pause.get("show"), dict):
        found += [("pause.show", path, source) for path in shown.values()]
    if isinstance(states, dict):
        found.append(("states.switch", states.get("switch"), source))
    for within in ("refers", "part"):
        for number, row in enumerate(_rows(table, within)):
            text = row_of(source, within, number)
            inner = row.get("part") if within == "refers" and isinstance(row, dict) else None
            for holder, names in ((row, within), (inner, "refers.part")):
                if isinstance(holder, dict):
                    found += [(f"{names}.{name}", holder.get(name), text) for name in _PATHS_OF[names]]
    return (one for one in found if isinstance(one[1], str))


def _mention(row: Any, source: str) -> Iterable[str]:
    if not isinstance(row, dict) or not {"pattern", "kind"} <= set(row) or "{id}" not in str(row["pattern"]):
        yield f"{line_of(source, 'mention')}each [[mention]] needs `pattern` (with {{id}} in it) and `kind`"
        return
    yield from _unfit(row, _MENTION, "mention.", source)
    yield from _braces(str(row["pattern"]), (), "mention.pattern", source)
    if row.get("by", "id") not in _WORDS["by"]:
        yield f"{line_of(source, 'by', 'mention')}`mention.by` has to be one of {', '.join(_WORDS['by'])}"


def _part(row: Any, source: str) -> Iterable[str]:
    if not isinstance(row, dict) or not {"at", "parts"} <= set(row):
        words = "`at` and `parts`, and `of` (the member beside it) where they are another item's"
        yield f"{line_of(source, 'part')}each [[part]] needs {words}"
        return
    yield from _unfit(row, _PART, "part.", source)
    if row.get("alone") and row.get("of"):
        yield f"{line_of(source, 'alone', 'part')}`part.alone` is for parts of the item itself: without `of`"


def _refer(row: Any, source: str) -> Iterable[str]:
    if not isinstance(row, dict) or not isinstance(row.get("at"), str) or not isinstance(row.get("to"), list):
        yield f"{line_of(source, 'refers')}each [[refers]] needs `at` (a path) and `to` (a list of kinds)"
        return
    yield from _unfit(row, _REFERS, "refers.", source)
    form = str(row.get("form", "{id}"))
    if "{id}" not in form and not is_part_alone(form):
        yield f"{line_of(source, 'form')}`refers.form` has to hold {{id}}, or {{part}} where a part is named alone"
    yield from _braces(str(row.get("form", "")), ("id", "address", "holder", "part", "rest"), "refers.form", source)
    yield from _pieces(row, source)
    for value in _VALUES.intersection(map(str, row["to"])):
        words = f"`refers.to`: a {value} is a value and no item; what has an id of its own there is a connection"
        yield f"{line_of(source, 'to', 'refers')}{words}"
    for name, known in _WORDS.items():
        if row.get(name, known[0]) not in known:
            yield f"{line_of(source, name)}`refers.{name}` has to be one of {', '.join(known)}"


def _several(rows: Sequence[Any], source: str) -> Iterable[str]:
    """References at one place that nothing would tell from each other."""
    places: dict[str, dict[int, Mapping[str, Any]]] = {}
    for number, row in enumerate(rows):
        if isinstance(row, dict):
            places.setdefault(str(row.get("at")), {})[number] = row
    for at, here in places.items():
        forms = [str(row.get("form", "")) for row in here.values()]
        # A uid is told from an id by the list, as if it had a form.
        manners = [(form, row.get("by") == "uid") for form, row in zip(forms, here.values(), strict=True)]
        is_odd = any(row.get("members") or row.get("by", "id") == "title" for row in here.values())
        if len(here) > 1 and (is_odd or any(map(has_pieces, forms)) or len(set(manners)) < len(manners)):
            words = 'need a `form` each, or `by = "uid"`, but for one, and neither `members`, titles nor pieces'
            yield f"{line_of(row_of(source, 'refers', min(here)), 'refers')}several [[refers]] at {at} {words}"


def _braces(form: str, known: Collection[str], where: str, source: str) -> Iterable[str]:
    """What stands in braces and would never match: a name that is there twice, or one that is not `known`. Doubled
    braces are the platform's own; in a mention, which is a piece of its language, all others may be."""
    names = re.findall(r"(?<!\{)\{([A-Za-z_]+)\}(?!\})", form)
    line = line_of(source, where.partition(".")[2])
    for name in dict.fromkeys(names):
        if known and name not in known:
            words = f"knows {', '.join(f'{{{one}}}' for one in known)}, and no {{{name}}}"
            yield f"{line}`{where}` {words}"
        elif names.count(name) > 1:
            yield f"{line}`{where}`: {{{name}}} stands there twice"


def _pieces(row: Mapping[str, Any], source: str) -> Iterable[str]:
    """Texts of which an id is one piece among others."""
    form = str(row.get("form", ""))
    if has_pieces(form):
        if re.search(r"\}\{", form) or "{holder}" in form:
            words = "its pieces need something between them, and {holder} is none of them"
            yield f"{line_of(source, 'form')}`refers.form`: {words}"
        if is_part_alone(form) and ("part" not in row or "{rest}" in form or row.get("by", "id") != "id"):
            words = "what names a part alone needs `part`, and knows neither {rest} nor titles nor uids"
            yield f"{line_of(source, 'form')}`refers.form`: {words}"
    elif "part" in row:
        yield f"{line_of(source, 'part', 'refers')}`refers.part` needs {{part}} in `form`: where it stands"
    if "part" in row and isinstance(row["part"], dict):
        known = {name: type_ for name, type_ in _PART.items() if name not in ("at", "of", "members", "alone")}
        yield from _unfit(row["part"], known, "refers.part.", source)
        if "parts" not in row["part"]:
            yield f"{line_of(source, 'part', 'refers')}`refers.part.parts` is missing: where an item's parts stand"


def _conversion(row: Any, source: str) -> Iterable[str]:
    if not isinstance(row, dict):
        yield f"{line_of(source, 'conversion')}each [[conversion]] has to be a table"
        return
    # Misspelt keys first: parsing would tell of a missing one instead, which leads astray.
    faults = list(_unfit(row, _CONVERSION, "conversion.", source))
    yield from faults
    try:
        if not faults:
            parse_conversion(row)
    except SheetFault as error:
        yield f"{line_of(source, 'conversion')}{error.message}"
