"""demo and practice: made-up data to try everything on."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, PlainCommand, Work, working

app = typer.Typer(
    help="The simulated platform.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    context_settings={"show_default": False},
)


@app.callback()
def practice() -> None:
    """The simulated platform."""


def _stay_near(work: Work, folder: Path) -> None:
    """Where there is no workspace here, the folder of the files may be one: then that is meant."""
    from amphora.files.workspace import FILE

    if not work.has_workspace and (folder / FILE).is_file():
        work.folder, work.named = folder, ("--workspace", str(folder))


def _waits(work: Work, file: Path) -> bool:
    """Whether a run into that environment waits for somebody to go on with it."""
    if not _knows(work, file) or not work.session.workspace.has_ledger:
        return False
    return any(run.can_go_on for run in work.session.ledger.journal.runs() if run.environment == file.stem)


def _knows(work: Work, file: Path) -> bool:
    """Whether the workspace has an environment of a file's name: the next command would look at it."""
    return work.has_workspace and file.stem in work.session.workspace.environments


@app.command("new", cls=PlainCommand)
def new(
    folder: Annotated[Path, typer.Argument(help="Where to put the four files.")] = Path(),
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Make the four environments of Halcyon Grove.

    A workspace gets them with their roles and regions.

    \b
    Examples:
      amphora practice new .
      amphora practice new halcyon
    """
    from amphora.engine.practice import add_practice, new_practice, options_of
    from amphora.render.peek import practice_result

    with working(json, workspace) as work:
        paths = new_practice(folder)
        _stay_near(work, folder)
        # Without a workspace the files are made all the same: somebody may want to serve them.
        added = add_practice(work.session.workspace, paths) if work.has_workspace else []
        options = {path.stem: options_of(path.stem) for path in paths}
        work.show(practice_result(paths, added, work.has_workspace, options))


@app.command("edit", cls=PlainCommand)
def edit(
    file: Annotated[Path, typer.Argument(help="A practice environment.")],
    item: Annotated[str, typer.Argument(help="Key, title or native id of an item in it.")],
    values: Annotated[
        list[str],
        typer.Option("--set", metavar="PLACE=VALUE", help="A JSON Pointer and a JSON value; or title=TEXT."),
    ],
    by: Annotated[str, typer.Option("--by", metavar="ADDRESS", help="Who does it.")] = "ines@halcyon.example",
    draft: Annotated[bool, typer.Option("--draft", help="Leave it unpublished.")] = False,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Be somebody who edits an item there, past Amphora.

    \b
    Examples:
      amphora practice edit grove-live.practice "Bruised fruit check" --set /limit=18
      amphora practice edit grove-dev.practice "Weigh ticket" --set title="Weigh slip flow" --draft
    """
    from amphora.engine.practice import edit_practice, practice_file
    from amphora.render.peek import edited_result

    file = practice_file(file)
    with working(json, None) as work:
        _stay_near(work, file.parent)
        work.show(edited_result(file, edit_practice(file, item, values, by, draft), _knows(work, file)))


@app.command("connect", cls=PlainCommand)
def connect(
    file: Annotated[Path, typer.Argument(help="A practice environment.")],
    name: Annotated[str, typer.Argument(help="What the connection is called.")],
    type_: Annotated[str, typer.Option("--type", metavar="TYPE", help="What is on its other end.")] = "",
    broken: Annotated[bool, typer.Option("--broken", help="It does not answer.")] = False,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Be somebody who makes a connection there, past Amphora.

    \b
    Example:
      amphora practice connect grove-live.practice lab-exchange-live --type exchange
    """
    from amphora.engine.practice import connect_practice, practice_file
    from amphora.render.peek import connected_result

    file = practice_file(file)
    with working(json, None) as work:
        _stay_near(work, file.parent)
        native_id = connect_practice(file, name, type_, not broken)
        work.show(connected_result(file, name, native_id, _waits(work, file)))


@app.command("serve", cls=PlainCommand)
def serve(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Practice environments.")],
    port: Annotated[int, typer.Option(help="On which port of this machine; 0 takes a free one.")] = 8750,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Serve practice environments over HTTP, on this machine only.

    Each stands under its name; how to sign in is printed. The secret is that of
    AMPHORA_PRACTICE_SECRET, else a new one each time. Interrupt it to end it.

    \b
    Example:
      amphora practice serve grove-dev.practice grove-live.practice --port 8750
    """
    from amphora.engine.practice import options_of, practice_file
    from amphora.environments.http.practice import SECRET, served
    from amphora.render.peek import served_result

    with working(json, None) as work:
        # Open before it is told: an address that nothing answers under is worse than an error.
        one = served([practice_file(file) for file in files], port)
        options = {name: options_of(name) for name in one.addresses}
        work.show(served_result(one.addresses, one.account, SECRET, one.new_secret, options))
        with one.server, suppress(KeyboardInterrupt):
            one.server.serve_forever()


@app.command("trouble", cls=PlainCommand)
def trouble(
    file: Annotated[Path, typer.Argument(help="A practice environment.")],
    after: Annotated[int, typer.Option("--after", metavar="COUNT", help="So many changes still go well.")] = 0,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Let it refuse one change, as platforms do on bad days.

    \b
    Example:
      amphora practice trouble grove-live.practice --after 2
    """
    from amphora.engine.practice import plan_trouble, practice_file
    from amphora.render.peek import trouble_result

    file = practice_file(file)
    with working(json, None) as work:
        plan_trouble(file, after)
        work.show(trouble_result(file, after))


def demo(
    chapters: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[CHAPTER]...",
            help="looking, crossing, mending, removing, pausing, many, guided, finishing; else all of them.",
        ),
    ] = None,
    keep: Annotated[Path | None, typer.Option("--keep", metavar="FOLDER", help="Play it there and leave it.")] = None,
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Play the whole example on made-up data; every command is run.

    \b
    Examples:
      amphora demo
      amphora demo finishing
      amphora demo --keep halcyon
    """
    from amphora.cli.demo import play

    raise typer.Exit(play(keep, json, chapters or ()))
