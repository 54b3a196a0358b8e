"""`amphora`: the commands put together."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Final

import typer

from amphora.cli import (
    aftercare,
    carry,
    check,
    compare,
    deliveries,
    edits,
    environments,
    export,
    folders,
    history,
    imports,
    ledger,
    map,
    overview,
    peek,
    practice,
    resume,
    sign,
    survey,
    undo,
    uses,
    verify,
    withdraw,
)
from amphora.cli.boundary import guarded
from amphora.cli.commands import Commands
from amphora.cli.work import COMPLETES, FolderOption, JsonFlag, PlainGroup, working
from amphora.cli.workspace import show_workspace

COMMANDS: Final[Mapping[str, Callable[..., None] | typer.Typer]] = {
    "demo": practice.demo,
    "init": environments.init,
    "survey": survey.survey,
    "uses": uses.uses,
    "export": export.export,
    "peek": peek.peek,
    "check": check.check,
    "map": map.map_,
    "compare": compare.compare,
    "import": imports.import_,
    "resume": resume.resume,
    "aftercare": aftercare.aftercare,
    "verify": verify.verify,
    "undo": undo.undo,
    "history": history.history,
    "carry": carry.carry,
    "overview": overview.overview,
    "deliveries": deliveries.deliveries,
    "edits": edits.edits,
    "withdraw": withdraw.withdraw,
    "to-folder": folders.to_folder,
    "from-folder": folders.from_folder,
    "sign": sign.sign,
    "env": environments.app,
    "keys": sign.app,
    "ledger": ledger.app,
    "practice": practice.app,
}


class Root(PlainGroup):
    """The program: all commands, each put together when it is its turn."""

    def __init__(self, **named: Any) -> None:
        super().__init__(**named)
        self.commands = Commands(COMMANDS)


app = typer.Typer(
    name="amphora",
    help="Moves apps, flows, reports and integrations between environments, and finishes the job.\n\n"
    "The way: survey, export, check, map, compare, import, aftercare, verify, history.\n\n"
    "Try it on made-up data:  amphora demo",
    # The plain help of the library's base: the drawn one costs a terminal library at every start.
    cls=Root,
    invoke_without_command=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"show_default": False, "help_option_names": ["-h", "--help"]},
)


class Everywhere(dict[str, Any]):
    """Values for options of these names in every command and group below."""

    def get(self, name: str, default: Any = None) -> Any:
        # Asked for by the name of a command, it is the values for that one.
        return super().get(name, default) if name in self else self


@app.callback()
def bare(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Say which Amphora this is.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
) -> None:
    """The program without a command: in a workspace, what is open and the next command; else help."""
    if version:
        from amphora import __version__

        print(f"amphora {__version__}")
    elif context.invoked_subcommand is not None:
        # Said before the command they count for it, whichever it is.
        said = {"json": json, "workspace": workspace}
        context.default_map = Everywhere({name: value for name, value in said.items() if value})
    else:
        with working(json, workspace) as work:
            if not show_workspace(work):
                print(context.get_help())
                print("\nNext: amphora init")


def run() -> None:
    """The console script."""
    # Whatever is written holds definitions, rows or keys: for its owner alone, and not even that where somebody's
    # mask is stricter.
    os.umask(os.umask(0o077) | 0o077)
    if COMPLETES in os.environ:
        from typer._completion_classes import completion_init

        completion_init()
    # The library's own handling prints usage faults in its way, and knows nothing of exit codes 3 to 75.
    sys.exit(guarded(lambda: app(standalone_mode=False)))
