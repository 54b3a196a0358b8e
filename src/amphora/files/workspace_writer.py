"""Writing into `amphora.toml`, which people edit, too: what they wrote stays, and what no command could read again is
not written."""

from __future__ import annotations

import tempfile
import tomllib
from pathlib import Path
from typing import Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.files.names import checked_name
from amphora.files.typed import TYPED
from amphora.files.workspace import (
    FILE,
    EnvironmentEntry,
    Selection,
    Workspace,
    checked_ledger,
    entry_of,
    read_workspace,
)


def add_environment(workspace: Workspace, entry: EnvironmentEntry) -> Workspace:
    """Adds an environment to `amphora.toml`, keeping what people wrote there."""
    import tomlkit

    _refuse_name(workspace, entry.name)
    path, document = _document(workspace)
    table = tomlkit.table()
    for name in ("location", "bridge", "role", "region", "customer", "sign_in", "user"):
        if value := getattr(entry, name):
            table.add(name, value)
    if entry.own:
        own = tomlkit.inline_table()
        own.update(entry.own)
        table.add("own", own)
    if "environments" not in document:
        document.add("environments", tomlkit.table(is_super_table=True))
    table.add(tomlkit.nl())
    document["environments"].append(entry.name, table)
    text = tomlkit.dumps(document)
    # Before the whole is: so a refused entry is told with its own place.
    entry_of(path, text, entry.name, tomllib.loads(text)["environments"][entry.name])
    _write(path, text)
    return read_workspace(workspace.folder)


def set_ledger(workspace: Workspace, url: str, sign_in: str) -> None:
    """Writes into `amphora.toml` on which server the ledger is."""
    import tomlkit

    path, document = _document(workspace)
    if "amphora" not in document:
        document.add("amphora", tomlkit.table())
    table: Any = document["amphora"]
    table["ledger"] = url
    if sign_in:
        table["ledger_sign_in"] = sign_in
    text = tomlkit.dumps(document)
    # Before the whole is: so it is told with its own place.
    checked_ledger(url, sign_in, path, text)
    _write(path, text)


def set_sign_in(workspace: Workspace, name: str, sign_in: str) -> None:
    """Writes where an environment's secret is kept into `amphora.toml`."""
    import tomlkit

    path, document = _document(workspace)
    document["environments"][name]["sign_in"] = sign_in
    _write(path, tomlkit.dumps(document))


def save_selection(workspace: Workspace, name: str, selection: Selection) -> None:
    """Keeps a selection in `amphora.toml`; what people wrote elsewhere in it stays."""
    import tomlkit

    if workspace.selections.get(name) == selection:
        return
    path, document = _document(workspace)
    table = tomlkit.table()
    values = {"environment": selection.environment, "items": list(selection.items)}
    values |= {
        "leave_out": list(selection.leave_out),
        "with": list(selection.with_),
        "without": list(selection.without),
        "afterwards": list(selection.afterwards),
    }
    values |= {"take": selection.take} if selection.take != "live" else {}
    for field_name, value in values.items():
        if value:
            table.add(field_name, value)
    if "selections" not in document:
        document.add("selections", tomlkit.table(is_super_table=True))
    document["selections"][name] = table
    _write(path, tomlkit.dumps(document))


def drop_environment(workspace: Workspace, name: str) -> None:
    """Takes an environment's table out of `amphora.toml`."""
    import tomlkit

    path, document = _document(workspace)
    environments: Any = document["environments"]
    del environments[name]
    _write(path, tomlkit.dumps(document))


def move_environment(workspace: Workspace, old: str, name: str) -> None:
    """Gives an environment another name in `amphora.toml`: its table, groups, selections and the route."""
    import tomlkit

    _refuse_name(workspace, name)
    path, document = _document(workspace)
    # In the order in which they stand: that is the order in which they are listed.
    tables = {(name if one == old else one): table for one, table in document["environments"].items()}
    for one in list(document["environments"]):
        del document["environments"][one]
    for one, table in tables.items():
        document["environments"][one] = table
    lists = [*document.get("groups", {}).values()]
    lists += [document["amphora"]["route"]] if "route" in document.get("amphora", {}) else []
    for names in lists:
        for number, one in enumerate(names):
            if one == old:
                names[number] = name
    for selection in document.get("selections", {}).values():
        if selection.get("environment") == old:
            selection["environment"] = name
    _write(path, tomlkit.dumps(document))


def _refuse_name(workspace: Workspace, name: str) -> None:
    """UsageFault for what can't be the name of another environment."""
    checked_name(name, "an environment")
    if name in workspace.environments or name in workspace.groups:
        what = "an environment" if name in workspace.environments else "a group"
        raise UsageFault(
            f"The workspace has {what} {name!r} already.",
            subject=name,
            next_step=advice(f"Choose another name, or change it in {FILE}."),
        )


def _document(workspace: Workspace) -> tuple[Path, Any]:
    """The file, and its document, in which whatever people wrote keeps its place."""
    import tomlkit

    path = workspace.folder / FILE
    return path, tomlkit.parse(path.read_text(encoding=TYPED))


def _write(path: Path, text: str) -> None:
    """Replaces the file in one go, if it can be read afterwards."""
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".writing-") as folder:
        beside = Path(folder) / FILE
        beside.write_text(text, encoding="utf-8")
        read_workspace(Path(folder))
        beside.replace(path)
