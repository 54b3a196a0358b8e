"""Making the practice environments."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from amphora.core.needs.matches import assign_keys
from amphora.core.needs.selection import the_one
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Json, Listed, States
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import Pointer, parse_pointer, value_at, with_value
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.contract import Seen, Write
from amphora.environments.practice import connect
from amphora.files.workspace import EnvironmentEntry, Workspace
from amphora.files.workspace_writer import add_environment
from amphora.practice.halcyon import PLACES, SUFFIX, make_halcyon


def practice_file(path: Path) -> Path:
    """The file that is meant: people leave its ending out, as they do where they name the environment."""
    longer = path.with_name(path.name + SUFFIX) if path.name else path
    return longer if longer.is_file() and not path.exists() else path


def edit_practice(path: Path, item: str, values: Sequence[str], by: str, is_draft: bool) -> Listed:
    """Sets values in an item's definition (`PLACE=VALUE`) or its title, as somebody working there."""
    with closing(connect(f"practice:{path.resolve()}", path.parent, by, "")) as environment:
        rows = environment.index()
        keys = assign_keys(rows, [], environment.describe().uid)
        key = the_one(item, {keys[row.native_id]: row for row in rows}, path.stem)
        row = next(row for row in rows if keys[row.native_id] == key)
        [found] = environment.read([row.native_id], "draft")
        definition, states = found.definition, row.states
        for text in values:
            definition, states = _with_value(text, definition, states)
        write = Write(row.kind, row.segments, states, definition, "", row.native_id, row.revision)
        [written] = environment.write([write])
        if row.states.is_published and not is_draft:
            environment.publish(Seen(row.native_id, written.revision))
        return row


def connect_practice(path: Path, name: str, type_: str, is_working: bool) -> str:
    """Offers a connection in an environment; gives its native id. UsageFault where there is one of that name."""
    with closing(connect(f"practice:{path.resolve()}", path.parent, "", "")) as environment:
        if any(supply.kind == "connection" and supply.name == name for supply in environment.supplies()):
            raise UsageFault(
                f"{path.stem} has a connection {name!r} already.",
                subject=name,
                next_step=advice("Choose another name."),
            )
        return environment.platform.add_supply("connection", name, type_, works=is_working)


def plan_trouble(path: Path, after: int) -> None:
    """Lets an environment refuse one change, after so many others. UsageFault for less than none."""
    if after < 0:
        raise UsageFault(f"--after is a count, not {after}.", subject=str(after), next_step=advice("Give 0 or more."))
    with closing(connect(f"practice:{path.resolve()}", path.parent, "", "")) as environment:
        environment.platform.plan_trouble(after)


def _with_value(text: str, definition: Json, states: States) -> tuple[Json, States]:
    place, equals, value = text.partition("=")
    if place == "title" and equals:
        return definition, replace(states, title=value)
    try:
        pointer = parse_pointer(place)
        parsed = parse_json(value)
    except JsonFault:
        parsed = value
    except ValueError as error:
        raise UsageFault(
            f"{text!r} is not PLACE=VALUE.", next_step=advice("Write it like --set /limit=18")
        ) from error
    _refuse_nowhere(definition, pointer, place)
    return with_value(definition, pointer, parsed), states


def _refuse_nowhere(definition: Json, pointer: Pointer, place: str) -> None:
    """UsageFault where nothing could stand at a place: an edit that changes nothing would be told as one."""
    try:
        holder = value_at(definition, pointer[:-1]) if pointer else None
        if isinstance(holder, list):
            value_at(definition, pointer)
        elif not isinstance(holder, dict):
            raise LookupError
    except LookupError as error:
        raise UsageFault(
            f"There is no place {place!r} in it.",
            subject=place,
            next_step=advice("Name a member of what is there, as amphora peek shows it."),
        ) from error


def add_practice(workspace: Workspace, paths: Sequence[Path]) -> list[str]:
    """Adds practice environments to a workspace, with their roles and regions; those whose name it has already stay
    as they are. Returns the names that were added."""
    added = []
    for path in paths:
        place = PLACES[path.name.removesuffix(SUFFIX)]
        if place.name not in workspace.environments:
            # Beside the workspace by a short name: the folder may be moved as a whole.
            near = path.resolve()
            at = near.relative_to(workspace.folder) if near.is_relative_to(workspace.folder) else near
            workspace = add_environment(
                workspace, EnvironmentEntry(place.name, f"practice:{at}", place.role, place.region)
            )
            added.append(place.name)
    return added


def options_of(name: str) -> list[str]:
    """What is said of a practice environment when it is added by hand: what it is for, and where it lies. Nothing of
    one that somebody made up."""
    place = PLACES.get(name)
    if place is None:
        return []
    return ["--role", place.role, *(["--region", place.region] if place.region else [])]


def new_practice(folder: Path) -> list[Path]:
    """The four environments of Halcyon Grove as files; UsageFault where one is already."""
    for name in PLACES:
        path = folder / f"{name}{SUFFIX}"
        if path.exists():
            raise UsageFault(f"{path} exists already.", subject=str(path), next_step=advice("Choose another folder."))
    return make_halcyon(folder)
