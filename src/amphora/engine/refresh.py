"""Dockets brought up to date: what was decided stays decided, as far as the question is still the same."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.engine.docket import Prepared, prepare
from amphora.engine.imports import base_of
from amphora.engine.session import Session
from amphora.files.docket_file import DocketFile, read_docket, write_docket
from amphora.files.package import find_package, read_package


@dataclass(frozen=True)
class Refreshed:
    """The docket as it is now, and the decisions that no longer fit: (item, place)."""

    prepared: Prepared
    kept: int
    dropped: tuple[tuple[Key, str], ...]


def refresh_docket(session: Session, path: Path) -> Refreshed:
    """Makes the docket of a file anew and keeps the decisions whose three values are what they were."""
    file = read_docket(path)
    contents = read_package(find_package(f"{file.package}-{file.version}", session.workspace.packages))
    fates = _still(file, contents.items)
    since = base_of(session, file)
    plain = prepare(session, contents, file.target, {}, file.without, since, fates, file.custody)
    now = {
        (action.key, change.place): change.sides
        for action in plain.docket.actions
        for change in (action.comparison.changes if action.comparison else ())
    }
    choices: dict[Key, dict[str, Json]] = {}
    dropped = []
    for key, mine in file.choices.items():
        for place, choice in mine.items():
            is_whole = place == "*" and key in contents.items
            if is_whole or ((key, place) in now and file.sides.get((key, place)) == now[key, place]):
                choices.setdefault(key, {})[place] = choice
            else:
                dropped.append((key, place))
    prepared = prepare(session, contents, file.target, choices, file.without, since, fates, file.custody)
    write_docket(path, prepared.docket)
    return Refreshed(prepared, sum(map(len, choices.values())), tuple(dropped))


def _still(file: DocketFile, items: Mapping[Key, object]) -> dict[Key, str]:
    """The fates of what is still not in the package."""
    return {key: fate for key, fate in file.fates.items() if key not in items and fate != "stay"}
