"""init, env add, env list, env test."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.working import DebugFlag, FolderOption, JsonFlag, PlainCommand, working

app = typer.Typer(
    help="The environments of this workspace.",
    no_args_is_help=True,
    rich_markup_mode=None,
    context_settings={"show_default": False},
)


def init(
    folder: Annotated[Path, typer.Argument(help="Where; the current folder if left out.")] = Path(),
    json: JsonFlag = False,
    debug: DebugFlag = False,
) -> None:
    """Start a workspace.

    \b
    Examples:
      amphora init
      amphora init halcyon
    """
    from amphora.files.workspace import init_workspace
    from amphora.render.looking import init_result

    with working(json, None) as work:
        work.show(init_result(init_workspace(folder).folder))


@app.command("add", cls=PlainCommand)
def add(
    name: Annotated[str, typer.Argument(help="What to call it, such as grove-live.")],
    location: Annotated[str, typer.Argument(help="practice:FILE or nodered+http://HOST:PORT")],
    role: Annotated[str, typer.Option(help="build, test or live; build if left out.")] = "build",
    region: Annotated[str, typer.Option(help="The region its data belong to.")] = "",
    customer: Annotated[str, typer.Option(help="Whose it is.")] = "",
    sign_in: Annotated[str, typer.Option(help="Where its secret is kept: env:NAME.")] = "",
    user: Annotated[str, typer.Option(help="The account to sign in with.")] = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Add an environment to the workspace.

    \b
    Examples:
      amphora env add grove-dev practice:grove-dev.practice --role build
      amphora env add grove-live practice:grove-live.practice --role live --region north
      amphora env add line-one nodered+http://127.0.0.1:1880 --role test --sign-in env:LINE_ONE_TOKEN
    """
    from amphora.environments.locations import adapter_for
    from amphora.files.workspace import EnvironmentEntry, add_environment
    from amphora.render.looking import env_added_result

    with working(json, workspace) as work:
        adapter_for(location)
        entry = EnvironmentEntry(name, location, role, region, customer, sign_in, user)
        add_environment(work.session.workspace, entry)
        work.show(env_added_result(entry))


@app.command("list", cls=PlainCommand)
def list_(json: JsonFlag = False, workspace: FolderOption = None, debug: DebugFlag = False) -> None:
    """List the environments.

    \b
    Example:
      amphora env list
    """
    from amphora.render.looking import env_list_result

    with working(json, workspace) as work:
        work.show(env_list_result(list(work.session.workspace.environments.values())))


@app.command("test", cls=PlainCommand)
def reach(
    environment: Annotated[str, typer.Argument(help="Its name in the workspace.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Reach an environment: who is signed in, and what they may do.

    \b
    Example:
      amphora env test grove-live
    """
    from amphora.render.looking import env_test_result

    with working(json, workspace) as work:
        opened = work.session.open(environment)
        identity = opened.environment.whoami()
        work.show(env_test_result(opened.entry, opened.description, identity))
