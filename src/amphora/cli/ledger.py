"""ledger: where the record of everything is kept."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, PlainCommand, working

app = typer.Typer(
    help="Where the record of everything is kept.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    context_settings={"show_default": False},
)


@app.callback()
def ledger() -> None:
    """Where the record of everything is kept."""


@app.command("move", cls=PlainCommand)
def move_(
    url: Annotated[str, typer.Argument(help="postgresql://NAME@HOST/DATABASE, without a password.")],
    sign_in: Annotated[
        str, typer.Option("--sign-in", metavar="WHERE", help="Where the password is: env:NAME or keyring:NAME.")
    ] = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Take the workspace's ledger over to a team's PostgreSQL server.

    \b
    Example:
      amphora ledger move postgresql://amphora@ledger.example/amphora --sign-in env:LEDGER_PASSWORD
    """
    from amphora.engine.ledger import move
    from amphora.render.ledger import moved_result

    with working(json, workspace) as work:
        work.show(moved_result(move(work.session, url, sign_in)))
