"""Environments taken out of a workspace, or given another name, without losing what is known of them."""

from __future__ import annotations

from amphora.core.values.errors import NotReady
from amphora.core.values.next_step import advice, to_type
from amphora.engine.session import Session
from amphora.files.crosswalk_file import rename_column
from amphora.files.workspace import FILE
from amphora.files.workspace_writer import drop_environment, move_environment


def remove_environment(session: Session, name: str) -> None:
    """Takes an environment out of the workspace. NotReady while something of it is open, or something names it."""
    workspace = session.workspace
    workspace.environment(name, may_be_new=False)
    _refuse_open(session, name)
    users = [f"group {group}" for group, names in workspace.groups.items() if name in names]
    users += [f"selection {one}" for one, selection in workspace.selections.items() if selection.environment == name]
    users += ["the route"] if name in workspace.route else []
    if users:
        raise NotReady(
            f"{name} is still named in {FILE}; nothing was changed.",
            subject=name,
            details=users,
            next_step=advice(f"Take it out of these lines of {FILE} first."),
        )
    drop_environment(workspace, name)


def rename_environment(session: Session, old: str, name: str) -> list[str]:
    """Gives an environment another name wherever one is kept; returns where that was. Runs keep the names that they
    have."""
    workspace = session.workspace
    workspace.environment(old, may_be_new=False)
    _refuse_open(session, old)
    # The file first: should it be refused, nothing is half renamed.
    move_environment(workspace, old, name)
    places = [FILE]
    if rename_column(workspace.crosswalk, old, name):
        places.append(workspace.crosswalk.name)
    if workspace.has_ledger:
        session.ledger.rename_environment(old, name)
        places.append("the ledger")
    return places


def _refuse_open(session: Session, name: str) -> None:
    if not session.workspace.has_ledger:
        return
    mine = [run for run in session.ledger.journal.runs() if run.is_open and run.environment == name]
    if mine:
        raise NotReady(
            f"{mine[0].name} into {name} is {mine[0].standing}: that has to be settled first.",
            subject=name,
            next_step=to_type("history", mine[0].name),
        )
