"""Kind sheets: the TOML files that say what a kind of item is made of (design, section 5)."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from amphora.core.form.conversions import FIELDS as _CONVERSION
from amphora.core.form.conversions import Conversion, parse_conversion
from amphora.core.form.places import Places, Refer, Spot, spots_from
from amphora.core.values.errors import SheetFault
from amphora.core.values.next_step import advice

_FIELDS = {
    "parts": dict,
    "named": dict,
    "settings": dict,
    "unordered": list,
    "text": list,
    "layout": list,
    "volatile": list,
    "secret": list,
    "files": list,
    "features": list,
    "region": list,
    "data": list,
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
    "conversion": list,
    "pause": dict,
}
_PAUSE = {"who": str, "do": str, "show": dict}
_REFERS = {"at": str, "to": list, "required": bool, "known_only": bool, "object": str}
_STATES = {"switch": (str, bool), "publish": bool}
_WORDS = {dict: "a table", list: "a list", str: "text", bool: "true or false", int: "a whole number"}


@dataclass(frozen=True)
class PauseWords:
    """What is said of an item from which something has to be made by hand: who can do it, and what is to be done."""

    who: str = ""
    do: str = ""


@dataclass(frozen=True)
class KindSheet:
    """One kind of item.

    `source` is the sheet's own TOML text, which travels in packages. `is_switched` and `is_published`
    say whether items of the kind can be switched on and off, and have a draft beside a live version. `access` are
    the kinds to which its items give access; `shape` is its outline in figures; start, that people begin with
    such an item when they choose what to move. `conversions` lead from older versions of the shape to newer ones.
    """

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
    access: tuple[str, ...] = ()
    shape: str = ""
    is_start: bool = False
    pause: PauseWords = PauseWords()
    conversions: tuple[Conversion, ...] = ()
    source: str = field(repr=False, default="")

    @property
    def is_access(self) -> bool:
        """Whether its items give access to others, and nothing else needs them."""
        return bool(self.access)


Sheets = Mapping[str, KindSheet]


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
    roles += [(refer["at"], Spot(refer=_refer(refer))) for refer in table.get("refers", [])]
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
        places=Places(roles),
        secrets=tuple(table.get("fields", {}).get("secret", [])),
        is_switched=bool(switch),
        is_published=bool(states.get("publish", False)),
        has_region=bool(table.get("fields", {}).get("region")),
        has_data=bool(table.get("fields", {}).get("data")),
        has_objects=any(refer.get("object") for refer in table.get("refers", [])),
        has_features=bool(table.get("fields", {}).get("features")),
        has_required=any(refer.get("required") for refer in table.get("refers", [])),
        access=tuple(table.get("access", ())),
        shape=table.get("shape", ""),
        is_start=table.get("start", False),
        pause=PauseWords(pause.get("who", ""), pause.get("do", "")),
        conversions=tuple(parse_conversion(row) for row in table.get("conversion", [])),
        source=source,
    )


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
            result[sheet.kind] = sheet if known is sheet.conversions else replace(sheet, conversions=known)
    return result


def _refer(table: Mapping[str, Any]) -> Refer:
    return Refer(
        tuple(table["to"]), bool(table.get("required")), bool(table.get("known_only")), str(table.get("object", ""))
    )


def _faults(table: Mapping[str, Any], source: str) -> Iterable[str]:
    """Everything that is wrong with a sheet, each with its line: an unknown key would be a rule that nobody
    obeys."""
    if not isinstance(table.get("kind"), str):
        yield "`kind` is missing"
    yield from _unfit(table, _TOP, "", source)
    fields = table.get("fields", {})
    if isinstance(fields, dict):
        yield from _unfit(fields, _FIELDS, "fields.", source)
        for name, paths in fields.items():
            members = paths.values() if name in ("parts", "named", "settings") and isinstance(paths, dict) else ()
            given = [*(paths if isinstance(paths, list) else ()), *(members if isinstance(paths, dict) else ())]
            if not all(isinstance(path, str) for path in given):
                yield f"{_line(source, name)}`fields.{name}` has to hold texts only"
    states = table.get("states", {})
    if isinstance(states, dict):
        yield from _unfit(states, _STATES, "states.", source)
    pause = table.get("pause", {})
    if isinstance(pause, dict):
        yield from _unfit(pause, _PAUSE, "pause.", source)
        shown = pause.get("show", {})
        if isinstance(shown, dict) and not all(isinstance(path, str) for path in shown.values()):
            yield f"{_line(source, 'show')}`pause.show` has to hold names with paths"
    yield from _unfit_conversions(table, source)
    for refer in table.get("refers", []) if isinstance(table.get("refers", []), list) else ():
        if (
            not isinstance(refer, dict)
            or not isinstance(refer.get("at"), str)
            or not isinstance(refer.get("to"), list)
        ):
            yield f"{_line(source, 'refers')}each [[refers]] needs `at` (a path) and `to` (a list of kinds)"
        else:
            yield from _unfit(refer, _REFERS, "refers.", source)


def _unfit_conversions(table: Mapping[str, Any], source: str) -> Iterable[str]:
    for row in table.get("conversion", []) if isinstance(table.get("conversion", []), list) else ():
        if not isinstance(row, dict):
            yield f"{_line(source, 'conversion')}each [[conversion]] has to be a table"
            continue
        faults = list(_unfit(row, _CONVERSION, "conversion.", source))
        yield from faults
        try:
            if not faults:
                parse_conversion(row)
        except SheetFault as error:
            yield f"{_line(source, 'conversion')}{error.message}"


def _unfit(table: Mapping[str, Any], known: Mapping[str, Any], before: str, source: str) -> Iterable[str]:
    """The members of a table that nobody knows, with the nearest name, or that are of another type."""
    for name, value in table.items():
        if name not in known:
            # A misspelt role is the dangerous kind of slip: `secrets` for `secret` would let every one of them
            # travel.
            near = difflib.get_close_matches(name, known, 1, 0.5)
            hint = f"; perhaps `{before}{near[0]}`" if near else ""
            yield f"{_line(source, name)}`{before}{name}` is not known in a kind sheet{hint}"
        # In Python True is an int; `schema = true` is a slip all the same.
        elif not isinstance(value, known[name]) or (known[name] is int and isinstance(value, bool)):
            kinds = known[name] if isinstance(known[name], tuple) else (known[name],)
            words = " or ".join(_WORDS[kind] for kind in kinds)
            yield f"{_line(source, name)}`{before}{name}` has to be {words}"


def _line(source: str, name: str) -> str:
    """Where a name stands in a sheet, as the beginning of a sentence."""
    found = re.search(rf"^\s*(?:\[+\s*)?(?:[\w.]+\.)?[\"']?{re.escape(name)}[\"']?\s*[=\].]", source, re.MULTILINE)
    return f"line {source.count(chr(10), 0, found.start() + 1) + 1}: " if found else ""
