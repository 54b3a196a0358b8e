"""Kind sheets: the TOML files that say what a kind of item is made of (design, section 5)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from functools import lru_cache
from typing import Any

from amphora.core.form.conversions import FIELDS as _CONVERSION
from amphora.core.form.conversions import Conversion, parse_conversion
from amphora.core.form.places import IS, OF, PartOf, Places, Refer, Spot, spots_from
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.core.values.strict_toml import line_of, unfit

_FIELDS = {
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
    "members": bool,
    "by": str,
    "dead": str,
    "follows": bool,
    "space": str,
    "hollow": str,
}
_WORDS = {"by": ("id", "title"), "dead": ("told", "left out"), "hollow": ("id", "object")}
_IDS = {"space": str, "number": bool, "within": str}
_MENTION = {"pattern": str, "kind": str}
_PART = {"at": str, "of": str, "parts": str, "id": str, "name": str}
_STATES = {"switch": (str, bool), "publish": bool}
SHEET = "a kind sheet"


@dataclass(frozen=True)
class PauseWords:
    """What is said of an item from which something has to be made by hand: who can do it, and what is to be done."""

    who: str = ""
    do: str = ""


@dataclass(frozen=True)
class Outward:
    """What tells that an item leads to another machine, and so is a connection and no item: its type, a member that
    is not empty, or an address that stands in any member but `words`; items of the types `never` lead nowhere."""

    types: tuple[str, ...] = ()
    members: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    never: tuple[str, ...] = ()

    def with_more(self, other: Outward) -> Outward:
        """Both: what a workspace says comes to what is known."""
        mine, theirs = vars(self), vars(other)
        return Outward(**{name: (*mine[name], *theirs[name]) for name in mine})

    @property
    def is_empty(self) -> bool:
        """Whether nothing is said."""
        return not any(vars(self).values())


@dataclass(frozen=True)
class Ids:
    """How native ids of a kind look: the space in which they are unique (empty: one for all kinds), and whether they
    are JSON numbers. Where they are unique only in what holds an item, `within` is the member that names it."""

    space: str = ""
    is_number: bool = False
    within: str = ""


@dataclass(frozen=True)
class Mention:
    """How an id of a kind stands inside a text: `pattern` with `{id}` in it."""

    pattern: str
    kind: str


@dataclass(frozen=True)
class KindSheet:
    """One kind of item.

    `source` is the sheet's own TOML text, which travels in packages. `is_switched` and `is_published` say whether
    items of the kind can be switched on and off, and have a draft beside a live version. `access` are the kinds to
    which its items give access; `shape` is its outline in figures; start, that people begin with such an item when
    they choose what to move. `conversions` lead from older versions of the shape to newer ones. `ids` and `mentions`
    say how the environment writes ids (see `core.form.opened`): every place is meant in a definition that has been
    opened."""

    kind: str
    title: str
    plural: str
    is_carried: bool
    schema: int
    places: Places
    secrets: tuple[str, ...]
    is_switched: bool
    is_published: bool
    has_required: bool = False
    has_region: bool = False
    has_data: bool = False
    has_features: bool = False
    has_objects: bool = False
    names_parts: bool = False
    has_files: bool = False
    access: tuple[str, ...] = ()
    shape: str = ""
    is_start: bool = False
    pause: PauseWords = PauseWords()
    conversions: tuple[Conversion, ...] = ()
    ids: Ids = Ids()
    mentions: tuple[Mention, ...] = ()
    outward: Outward = Outward()
    names_by_title: frozenset[str] = frozenset()
    """The kinds whose items it names by their titles, and nobody writes anew where one of these gets another."""
    hides_secrets: bool = False
    """Whether some of its secrets are taken for granted, because the platform shows nobody whether they are there."""
    opens: tuple[str, ...] = ()
    """Where a definition has to be opened, in words that can be compared; see `core.form.opened`."""
    source: str = field(repr=False, default="")

    @property
    def singular(self) -> str:
        """One of them inside a sentence: small at first, but for what is written in capitals."""
        return self.title if self.title[:2].isupper() else f"{self.title[:1].lower()}{self.title[1:]}"

    @property
    def is_access(self) -> bool:
        """Whether its items give access to others, and nothing else needs them."""
        return bool(self.access)


Sheets = Mapping[str, KindSheet]


# A package brings the sheets that its environments have, and a command reads several of each: one reading is enough.
@lru_cache(maxsize=128)
def parse_sheet(source: str, name: str = "kind sheet") -> KindSheet:
    """The sheet that a TOML text holds; SheetFault names everything that is wrong with it."""
    try:
        table = tomllib.loads(source)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise SheetFault(
            f"The kind sheet {name} is not TOML: {error}", subject=name, next_step=advice("Mend the sheet.")
        ) from error
    faults = list(_faults(table, source))
    if faults:
        raise SheetFault(
            f"The kind sheet {name} can't be used.",
            subject=name,
            details=faults,
            next_step=advice("Mend the sheet."),
        )
    states = table.get("states", {})
    switch = states.get("switch", False)
    roles = spots_from(table.get("fields", {}))
    for refer in table.get("refers", []):
        spot = Spot(refer=_refer(refer))
        if refer.get("members"):
            # Opened, the object is an array of pairs: see `core.form.opened`.
            roles += [(refer["at"], Spot(named_by=OF, is_members=True)), (f"{refer['at']}[*].{OF}", spot)]
        else:
            roles.append((refer["at"], spot))
    roles += [(row["at"], Spot(part_of=_part_of(row))) for row in table.get("part", [])]
    # A path means that the switch stands in the definition; true that the platform keeps it beside.
    if isinstance(switch, str):
        roles.append((switch, Spot(is_switch=True)))
    pause = table.get("pause", {})
    roles += [(path, Spot(shown=name)) for name, path in pause.get("show", {}).items()]
    return KindSheet(
        kind=table["kind"],
        title=table.get("title", table["kind"]),
        plural=table.get("plural", table["kind"] + "s"),
        is_carried=table.get("carried", True),
        schema=table.get("schema", 1),
        places=Places(_opened_paths(roles)),
        secrets=tuple(table.get("fields", {}).get("secret", [])),
        is_switched=bool(switch),
        is_published=bool(states.get("publish", False)),
        # Flags and not searches: they are asked for every item, and most kinds have none of it.
        has_region=bool(table.get("fields", {}).get("region")),
        has_data=bool(table.get("fields", {}).get("data")),
        names_parts=bool(table.get("part")),
        has_files=bool(table.get("fields", {}).get("files")),
        has_objects=any(refer.get("object") for refer in table.get("refers", [])),
        has_features=bool(table.get("fields", {}).get("features")),
        has_required=any(refer.get("required") for refer in table.get("refers", [])),
        names_by_title=frozenset(_named_by_title(table.get("refers", []))),
        access=tuple(table.get("access", ())),
        shape=table.get("shape", ""),
        is_start=table.get("start", False),
        pause=PauseWords(pause.get("who", ""), pause.get("do", "")),
        conversions=tuple(parse_conversion(row) for row in table.get("conversion", [])),
        ids=_ids_of(table.get("ids", {})),
        mentions=tuple(Mention(row["pattern"], row["kind"]) for row in table.get("mention", [])),
        outward=Outward(**{name: tuple(words) for name, words in table.get("connection", {}).items()}),
        opens=tuple(sorted(_opens(table))),
        source=source,
    )


def _ids_of(table: Mapping[str, Any]) -> Ids:
    return Ids(table.get("space", ""), table.get("number", False), table.get("within", ""))


def _opens(table: Mapping[str, Any]) -> Iterable[str]:
    # As texts that can be compared: two sheets open alike if they say the same.
    yield from (f"ids.{name} {value}" for name, value in table.get("ids", {}).items())
    yield from (f"json {path}" for path in table.get("fields", {}).get("json", []))
    yield from (f"mention {row['pattern']} {row['kind']}" for row in table.get("mention", []))
    yield from (f"part {row['at']} {row['of']} {row['parts']}" for row in table.get("part", []))
    for refer in table.get("refers", []):
        if refer.get("members") or refer.get("form"):
            yield f"refers {refer['at']} {refer.get('form', 'members')}"
        if refer.get("by"):
            yield f"refers {refer['at']} by {refer['by']}"


def sheets_in_force(*layers: Iterable[KindSheet]) -> dict[str, KindSheet]:
    """One sheet a kind; later layers stand over earlier ones but can't drop a secret place."""
    result: dict[str, KindSheet] = {}
    for layer in layers:
        for sheet in layer:
            below = result.get(sheet.kind)
            # A sheet from the workspace, or one that came in a package, must not be able to make a secret readable.
            if below and not set(below.secrets) <= set(sheet.secrets):
                lost = ", ".join(sorted(set(below.secrets) - set(sheet.secrets)))
                raise SheetFault(
                    f"The sheet for {sheet.kind!r} would no longer treat {lost} as secret.",
                    subject=sheet.kind,
                    next_step=advice("List these places under [fields] secret in that sheet."),
                )
            # What leads from one shape to the next belongs to the kind, not to whoever describes it otherwise.
            known = sheet.conversions or (below.conversions if below else ())
            outward = below.outward.with_more(sheet.outward) if below else sheet.outward
            result[sheet.kind] = replace(sheet, conversions=known, outward=outward)
    return result


def _refer(table: Mapping[str, Any]) -> Refer:
    return Refer(
        tuple(table["to"]),
        bool(table.get("required")),
        bool(table.get("known_only")),
        str(table.get("object", "")),
        str(table.get("object_parts", "")),
        str(table.get("object_unless", "")),
        str(table.get("object_query", "")),
        str(table.get("form", "")),
        table.get("by") == "title",
        table.get("dead") == "left out",
        str(table.get("space", "")),
        table.get("hollow") == "object",
    )


def _named_by_title(refers: Iterable[Mapping[str, Any]]) -> Iterable[str]:
    for refer in refers:
        # A platform that keeps ids behind the titles that it shows writes the new ones by itself.
        if refer.get("by") == "title" and not refer.get("follows"):
            yield from (target.partition("#")[0] for target in refer["to"])


def _part_of(row: Mapping[str, str]) -> PartOf:
    return PartOf(row["of"], row["parts"], row.get("id", "$.id"), row.get("name", "$.name"))


def _opened_paths(roles: list[tuple[str, Spot]]) -> list[tuple[str, Spot]]:
    """The paths of a sheet, which are written as the platform shows a definition, as they lead through one that has
    been opened: `$.by_id.*.limit` is `$.by_id[*].is.limit` where the members of `by_id` are ids."""
    # Outer ones first: an inner one's path leads through the outer one.
    for base in sorted((path for path, spot in roles if spot.is_members), key=len):
        roles = [(_below(path, base), spot) for path, spot in roles]
    return roles


def _below(path: str, base: str) -> str:
    # Both ways of writing "whatever it is called": people write what they see, an object or an array.
    for wildcard in (".*", "[*]"):
        start = f"{base}{wildcard}"
        if path.startswith(start) and not path.startswith(f"{base}[*].{OF}"):
            return f"{base}[*].{IS}{path[len(start) :]}"
    return path


def _faults(table: Mapping[str, Any], source: str) -> Iterable[str]:
    """Everything that is wrong with a sheet, each with its line: an unknown key would be a rule that nobody
    obeys."""
    if not isinstance(table.get("kind"), str):
        yield "`kind` is missing"
    yield from unfit(table, _TOP, "", source, SHEET)
    fields = table.get("fields", {})
    if isinstance(fields, dict):
        yield from unfit(fields, _FIELDS, "fields.", source, SHEET)
        for name, paths in fields.items():
            # Tables of paths and lists of paths: what counts is that every end of it is a text.
            members = paths.values() if name in ("parts", "named", "settings") and isinstance(paths, dict) else ()
            given = [*(paths if isinstance(paths, list) else ()), *(members if isinstance(paths, dict) else ())]
            if not all(isinstance(path, str) for path in given):
                yield f"{line_of(source, name)}`fields.{name}` has to hold texts only"
    states = table.get("states", {})
    if isinstance(states, dict):
        yield from unfit(states, _STATES, "states.", source, SHEET)
    pause = table.get("pause", {})
    if isinstance(pause, dict):
        yield from unfit(pause, _PAUSE, "pause.", source, SHEET)
        shown = pause.get("show", {})
        if isinstance(shown, dict) and not all(isinstance(path, str) for path in shown.values()):
            yield f"{line_of(source, 'show')}`pause.show` has to hold names with paths"
    outward = table.get("connection", {})
    if isinstance(outward, dict):
        yield from unfit(outward, _CONNECTION, "connection.", source, SHEET)
        for name, words in outward.items():
            if isinstance(words, list) and not all(isinstance(word, str) for word in words):
                yield f"{line_of(source, name)}`connection.{name}` has to hold texts only"
    ids = table.get("ids", {})
    if isinstance(ids, dict):
        yield from unfit(ids, _IDS, "ids.", source, SHEET)
        if ids.get("within") and not ids.get("space"):
            yield f"{line_of(source, 'within', 'ids')}`ids.within` needs `ids.space`, too"
    for row in table.get("mention", []) if isinstance(table.get("mention", []), list) else ():
        if not isinstance(row, dict) or set(row) != set(_MENTION) or "{id}" not in str(row.get("pattern")):
            yield f"{line_of(source, 'mention')}each [[mention]] needs `pattern` (with {{id}} in it) and `kind`"
    for row in table.get("part", []) if isinstance(table.get("part", []), list) else ():
        if not isinstance(row, dict) or not {"at", "of", "parts"} <= set(row):
            yield f"{line_of(source, 'part')}each [[part]] needs `at`, `of` (the member beside it) and `parts`"
        else:
            yield from unfit(row, _PART, "part.", source, SHEET)
    yield from _unfit_conversions(table, source)
    for refer in table.get("refers", []) if isinstance(table.get("refers", []), list) else ():
        if (
            not isinstance(refer, dict)
            or not isinstance(refer.get("at"), str)
            or not isinstance(refer.get("to"), list)
        ):
            yield f"{line_of(source, 'refers')}each [[refers]] needs `at` (a path) and `to` (a list of kinds)"
        else:
            yield from unfit(refer, _REFERS, "refers.", source, SHEET)
            if "{id}" not in str(refer.get("form", "{id}")):
                yield f"{line_of(source, 'form')}`refers.form` has to hold {{id}}"
            for name, known in _WORDS.items():
                if refer.get(name, known[0]) not in known:
                    yield f"{line_of(source, name)}`refers.{name}` has to be one of {', '.join(known)}"


def _unfit_conversions(table: Mapping[str, Any], source: str) -> Iterable[str]:
    for row in table.get("conversion", []) if isinstance(table.get("conversion", []), list) else ():
        if not isinstance(row, dict):
            yield f"{line_of(source, 'conversion')}each [[conversion]] has to be a table"
            continue
        # Misspelt keys first: parsing would tell of a missing one instead, which leads astray.
        faults = list(unfit(row, _CONVERSION, "conversion.", source, SHEET))
        yield from faults
        try:
            if not faults:
                parse_conversion(row)
        except SheetFault as error:
            yield f"{line_of(source, 'conversion')}{error.message}"
