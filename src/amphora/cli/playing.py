"""demo and practice: made-up data to try everything on."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.working import DebugFlag, JsonFlag, working

app = typer.Typer(
    help="The simulated platform.",
    no_args_is_help=True,
    rich_markup_mode=None,
    context_settings={"show_default": False},
)


@app.callback()
def practice() -> None:
    """The simulated platform."""


@app.command("new")
def new(
    folder: Annotated[Path, typer.Argument(help="Where to put the four files.")] = Path(),
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Make the four made-up environments of Halcyon Grove as files.

    \b
    Example:
      amphora practice new halcyon
    """
    from amphora.engine.playing import new_practice
    from amphora.render.looking import practice_result

    with working(json, None) as work:
        work.show(practice_result(new_practice(folder)))


def demo(
    keep: Annotated[Path | None, typer.Option("--keep", metavar="FOLDER", help="Play it there and leave it.")] = None,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Play the full example on the made-up data: every command is really run.

    \b
    Examples:
      amphora demo
      amphora demo --keep halcyon
    """
    from amphora.cli.demo import play

    raise typer.Exit(play(keep, json))
