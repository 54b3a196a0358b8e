"""Kind sheets: the TOML files that say what a kind of item is made of (design, section 5)."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from amphora.core.form.places import Places, Refer, Spot, spots_from
from amphora.core.values.errors import SheetFault

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
_TOP = {"kind", "title", "plural", "carried", "schema", "refers", "fields", "states", "conversion"}


@dataclass(frozen=True)
class KindSheet:
    """One kind of item.

    `source` is the sheet's own TOML text, which travels in packages. `is_switched` and `is_published`
    say whether items of the kind can be switched on and off, and have a draft beside a live version.
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
    source: str = field(repr=False, default="")


Sheets = Mapping[str, KindSheet]


def parse_sheet(source: str, name: str = "kind sheet") -> KindSheet:
    """The sheet that a TOML text holds; SheetFault names everything that is wrong with it."""
    try:
        table = tomllib.loads(source)
    except tomllib.TOMLDecodeError as error:
        raise SheetFault(f"The kind sheet {name} is not TOML: {error}", subject=name) from error
    faults = list(_faults(table))
    if faults:
        raise SheetFault(f"The kind sheet {name} can't be used.", subject=name, details=faults)
    states = table.get("states", {})
    switch = states.get("switch", False)
    roles = spots_from(table.get("fields", {}))
    roles += [(refer["at"], Spot(refer=_refer(refer))) for refer in table.get("refers", [])]
    if isinstance(switch, str):
        roles.append((switch, Spot(is_switch=True)))
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
        source=source,
    )


def sheets_in_force(*layers: Iterable[KindSheet]) -> dict[str, KindSheet]:
    """One sheet a kind; later layers stand over earlier ones but can't drop a secret place."""
    result: dict[str, KindSheet] = {}
    for layer in layers:
        for sheet in layer:
            below = result.get(sheet.kind)
            if below and not set(below.secrets) <= set(sheet.secrets):
                lost = ", ".join(sorted(set(below.secrets) - set(sheet.secrets)))
                raise SheetFault(
                    f"The sheet for {sheet.kind!r} would no longer treat {lost} as secret.",
                    subject=sheet.kind,
                    next_step="List these places under [fields] secret in that sheet.",
                )
            result[sheet.kind] = sheet
    return result


def _refer(table: Mapping[str, Any]) -> Refer:
    return Refer(
        tuple(table["to"]), bool(table.get("required")), bool(table.get("known_only")), str(table.get("object", ""))
    )


def _faults(table: Mapping[str, Any]) -> Iterable[str]:
    if not isinstance(table.get("kind"), str):
        yield "`kind` is missing"
    for name in sorted(table.keys() - _TOP):
        yield f"`{name}` is not known in a kind sheet"
    for name, value in table.get("fields", {}).items():
        if name not in _FIELDS:
            yield f"`fields.{name}` is not known in a kind sheet"
        elif not isinstance(value, _FIELDS[name]):
            yield f"`fields.{name}` has to be a {'table' if _FIELDS[name] is dict else 'list of paths'}"
    for refer in table.get("refers", []):
        if not isinstance(refer.get("at"), str) or not isinstance(refer.get("to"), list):
            yield "each [[refers]] needs `at` (a path) and `to` (a list of kinds)"
