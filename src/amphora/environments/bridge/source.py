"""Where bridge sheets are: beside the workspace's file, or those that ship."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.environments.bridge.abilities import bridged
from amphora.environments.bridge.adapter import Bridge
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.parts import BridgeSheet
from amphora.environments.bridge.sheet import checked_user, parse_bridge
from amphora.environments.calls import checked_address
from amphora.files.sheets import sheet_text

ENDING = ".toml"


def shipped() -> list[str]:
    """The names of the sheets that ship."""
    folder = files("amphora.environments.bridge") / "shipped"
    return sorted(one.name for one in folder.iterdir() if one.is_dir()) if folder.is_dir() else []


def read_bridge(where: str, folder: Path, own: Mapping[str, str] | None = None, of: str = "") -> BridgeSheet:
    """A sheet by file (relative to `folder`) or by the name of one that ships, with the kind sheets beside it, and
    with what the environment `of` that name says for itself. UsageFault where there is none, SheetFault for what is
    wrong in it."""
    if where in shipped():
        there: Traversable = files("amphora.environments.bridge") / "shipped" / where
        return _parsed(there / f"{where}{ENDING}", there, where, own, of)
    path = folder / where
    if not path.is_file():
        known = shipped()
        raise UsageFault(
            f"There is no bridge sheet {where!r}.",
            subject=where,
            details=[f"shipped: {', '.join(known)}"] if known else (),
            next_step=advice("Name a TOML file, relative to the workspace; docs/bridges.md shows how to write one."),
        )
    return _parsed(path, path.parent, where, own, of)


def _parsed(path: Traversable, folder: Traversable, name: str, own: Mapping[str, str] | None, of: str) -> BridgeSheet:
    try:
        text = sheet_text(path, name)
        named: Any = tomllib.loads(text).get("kinds", [])
    except (ValueError, RecursionError):
        named = []
    kinds = {}
    for one in named if isinstance(named, list) else ():
        # A plain name: a sheet that came from somewhere must not make us read elsewhere.
        if isinstance(one, str) and "/" not in one and "\\" not in one and (folder / one).is_file():
            kinds[one] = sheet_text(folder / one, one)
    return parse_bridge(text, name, kinds, own, of)


def connect_bridge(sheet: BridgeSheet, location: str, user: str, secret: str, ca_file: str = "") -> Bridge:
    """Opens a location by its sheet."""
    checked_address(location, "a platform with a bridge sheet")
    checked_user(sheet, user, secret, location)
    return bridged(Client(sheet, location, user, secret, ca_file), sheet, user)
