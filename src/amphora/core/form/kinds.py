"""Kind sheets: the TOML files that say what a kind of item is made of (design, section 5)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from functools import lru_cache
from typing import Any

from amphora.core.form.conversions import Conversion, parse_conversion
from amphora.core.form.kind_faults import faults_of
from amphora.core.form.places import IS, OF, PART, PartOf, Places, Spot, has_pieces, spots_from
from amphora.core.form.refers import Refer, in_ways
from amphora.core.values.errors import SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice


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
    """How an id of a kind stands inside a text: `pattern` with `{id}` in it. `by` says what stands there: the
    item's "id", its "title" or its "uid"."""

    pattern: str
    kind: str
    by: str = "id"


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
    has_outward: bool = False
    has_data: bool = False
    has_features: bool = False
    has_objects: bool = False
    parts_by: tuple[PartOf, ...] = ()
    own_parts: tuple[PartOf, ...] = ()
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
    has_uids: bool = False
    """Whether it names items by what they have beside their ids."""
    hides_secrets: bool = False
    """Whether some of its secrets are taken for granted, because the platform shows nobody whether they are there."""
    held_by: tuple[str, ...] = ()
    """Where it names what holds it (a page its app): whoever packs that one packs this, too."""
    reads: frozenset[str] | None = None
    """The members that an adapter takes for the definition, where somebody else than the platform says so."""
    is_fixed: bool = False
    """Whether its items are made and removed there, and never changed."""
    fixed: frozenset[str] = frozenset()
    """The places of what never changes there once they are made: `state:title`, `state:folder`, members (`/kind`)."""
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
    # Some editors put a mark before what they save.
    source = source.removeprefix("\ufeff")
    try:
        table = tomllib.loads(source)
    except (ValueError, RecursionError) as error:
        raise SheetFault(
            f"The kind sheet {name} is not TOML: {error}", subject=name, next_step=advice("Mend the sheet.")
        ) from error
    faults = list(faults_of(table, source))
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
    places: dict[str, list[Mapping[str, Any]]] = {}
    for refer in table.get("refers", []):
        places.setdefault(refer["at"], []).append(refer)
    for at, refers in places.items():
        several = len(refers) > 1
        roles += [(at, Spot(refer=in_ways([*map(_refer, refers)])))] if several else _referring(refers[0])
    for row in table.get("part", []):
        roles += _parted(row)
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
        has_outward=bool(table.get("fields", {}).get("outward")),
        has_data=bool(table.get("fields", {}).get("data")),
        parts_by=tuple(part for part in _parts_by(table) if not part.is_own),
        own_parts=tuple(part for part in _parts_by(table) if part.is_own),
        has_files=bool(table.get("fields", {}).get("files")),
        has_objects=any(refer.get("object") for refer in table.get("refers", [])),
        has_features=bool(table.get("fields", {}).get("features")),
        has_required=any(refer.get("required") for refer in table.get("refers", [])),
        names_by_title=frozenset(_named_by_title(table.get("refers", []), table.get("mention", []))),
        has_uids=any(row.get("by") == "uid" for row in [*table.get("refers", []), *table.get("mention", [])]),
        access=tuple(table.get("access", ())),
        shape=table.get("shape", ""),
        is_start=table.get("start", False),
        pause=PauseWords(pause.get("who", ""), pause.get("do", "")),
        conversions=tuple(parse_conversion(row) for row in table.get("conversion", [])),
        ids=_ids_of(table.get("ids", {})),
        mentions=tuple(Mention(row["pattern"], row["kind"], row.get("by", "id")) for row in table.get("mention", [])),
        outward=Outward(**{name: tuple(words) for name, words in table.get("connection", {}).items()}),
        held_by=tuple(refer["at"] for refer in table.get("refers", []) if refer.get("held")),
        opens=tuple(sorted(_opens(table))),
        source=source,
    )


def _ids_of(table: Mapping[str, Any]) -> Ids:
    return Ids(table.get("space", ""), table.get("number", False), table.get("within", ""))


def _opens(table: Mapping[str, Any]) -> Iterable[str]:
    # As texts that can be compared: two sheets open alike if they say the same.
    yield from (f"ids.{name} {value}" for name, value in table.get("ids", {}).items())
    yield from (f"json {path}" for path in table.get("fields", {}).get("json", []))
    yield from (f"mention {row['pattern']} {row['kind']} {row.get('by', '')}" for row in table.get("mention", []))
    for row in table.get("part", []):
        yield f"part {row['at']} {row.get('of', '')} {row['parts']} {row.get('members', '')}".rstrip()
    for refer in table.get("refers", []):
        if "part" in refer:
            yield f"part {refer['at']} {OF} {refer['part']['parts']}"
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


def _referring(table: Mapping[str, Any]) -> Iterable[tuple[str, Spot]]:
    """The roles of the places at which something is referred to: opened (see `core.form.opened`), an object with ids
    for names is an array of pairs, and a text of which an id is a piece an object of its pieces."""
    at, form = table["at"], str(table.get("form", ""))
    pieces = form if has_pieces(form) else ""
    spot = Spot(refer=_refer({**table, "form": ""} if pieces else table))
    if table.get("members"):
        # Several names may begin with one id: no piece alone tells a pair from the others.
        yield at, Spot(is_members=True, named_by=None if pieces else OF, is_unordered=bool(pieces), pieces=pieces)
        at = f"{at}[*]"
    elif pieces:
        yield at, Spot(pieces=pieces)
    yield (f"{at}.{OF}" if pieces or table.get("members") else at), spot
    if pieces and "part" in table:
        yield f"{at}.{PART}", Spot(part_of=_part_of({**table["part"], "of": OF}), is_piece=True)


def _parted(row: Mapping[str, Any]) -> Iterable[tuple[str, Spot]]:
    at, spot = row["at"], Spot(part_of=_part_of(row))
    if row.get("members"):
        yield at, Spot(is_members=True, named_by=OF)
        at = f"{at}[*].{OF}"
    yield at, spot


def _parts_by(table: Mapping[str, Any]) -> Iterable[PartOf]:
    yield from map(_part_of, table.get("part", []))
    yield from (_part_of({**row["part"], "of": OF}) for row in table.get("refers", []) if "part" in row)


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
        str(table.get("by", "id")),
        table.get("dead") == "left out",
        str(table.get("space", "")),
        table.get("hollow") == "object",
    )


def _named_by_title(refers: Iterable[Mapping[str, Any]], mentions: Iterable[Mapping[str, Any]]) -> Iterable[str]:
    yield from (row["kind"] for row in mentions if row.get("by") == "title")
    for refer in refers:
        # A platform that keeps ids behind the titles that it shows writes the new ones by itself.
        if refer.get("by") == "title" and not refer.get("follows"):
            yield from (target.partition("#")[0] for target in refer["to"])


def _part_of(row: Mapping[str, Any]) -> PartOf:
    id_, name = row.get("id", "$.id"), row.get("name", "$.name")
    return PartOf(row.get("of", ""), row["parts"], id_, name, bool(row.get("alone")))


def _opened_paths(roles: list[tuple[str, Spot]]) -> list[tuple[str, Spot]]:
    """The paths of a sheet, which are written as the platform shows a definition, as they lead through one that has
    been opened: `$.by_id.*.limit` is `$.by_id[*].is.limit` where the members of `by_id` are ids."""
    # Outer ones first: an inner one's path leads through the outer one.
    for base in sorted((path for path, spot in roles if spot.is_members), key=len):
        roles = [(path if spot.is_piece else _below(path, base), spot) for path, spot in roles]
    return roles


def _below(path: str, base: str) -> str:
    # Both ways of writing "whatever it is called": people write what they see, an object or an array.
    for wildcard in (".*", "[*]"):
        start = f"{base}{wildcard}"
        if path.startswith(start) and not path.startswith(f"{base}[*].{OF}"):
            return f"{base}[*].{IS}{path[len(start) :]}"
    return path
