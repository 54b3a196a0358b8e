"""The ledger itself: taken over from a workspace's file to a team's server."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice, to_type
from amphora.engine.session import Session, ledger_secret
from amphora.files.workspace import ledger_misfit
from amphora.files.workspace_writer import set_ledger
from amphora.ledger.database import open_database
from amphora.ledger.sqlite import SqliteDatabase
from amphora.ledger.transfer import take_over


@dataclass(frozen=True)
class Moved:
    """A ledger that was taken over: to where, how many rows of each table, and what became of the file."""

    place: str
    counts: dict[str, int]
    kept: Path


def _refuse_misfit(url: str, sign_in: str) -> None:
    # Of what was typed, and not of the file: there is no line to be mended.
    name, is_clear = ledger_misfit(url, sign_in)
    if is_clear:
        where = "the address" if name == "ledger" else "--sign-in"
        raise UsageFault(
            f"A secret stands in clear in {where}; nothing was taken over.",
            next_step=advice("Take it out, say where it is kept with --sign-in env:SOME_NAME, and change it."),
        )
    if name:
        raise UsageFault(
            "A ledger is taken over to an address like postgresql://NAME@HOST/DATABASE.",
            next_step=to_type("ledger", "move", "--help"),
        )


def move(session: Session, url: str, sign_in: str) -> Moved:
    """Takes the workspace's ledger over to a server, and lets the workspace use that one from then on. The file stays
    under another name: nobody can go on with it by mistake."""
    workspace = session.workspace
    if workspace.ledger_url:
        raise UsageFault(
            "The ledger of this workspace is on a server already.",
            subject=workspace.ledger_url,
            next_step=to_type("history"),
        )
    _refuse_misfit(url, sign_in)
    for uid, name in session.ledger.environments().items():
        session.ledger.locks.refuse_held(uid, name)
    session.ledger.close()
    goal = open_database(url, ledger_secret(replace(workspace, ledger_url=url, ledger_sign_in=sign_in)))
    source = SqliteDatabase(workspace.ledger_file)
    kept = workspace.ledger_file.with_name(workspace.ledger_file.name + ".moved")
    try:
        # What somebody wrote into the file from now on would be in neither.
        source.take_alone()
        counts = take_over(source, goal)
        set_ledger(workspace, url, sign_in)
        workspace.ledger_file.rename(kept)
    finally:
        goal.close()
        source.close()
    return Moved(goal.place, counts, kept)
