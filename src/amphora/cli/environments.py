"""init, and all about environments."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, PlainCommand, Work, working
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.visible import visible

app = typer.Typer(
    help="The environments of this workspace.",
    no_args_is_help=True,
    add_completion=False,
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
    from amphora.render.peek import init_result

    with working(json, None) as work:
        there = init_workspace(folder).folder
        # Whoever goes on from here is not in it yet.
        work.named = () if there.samefile(Path()) else ("--workspace", str(folder))
        work.show(init_result(there, folder))


@app.command("add", cls=PlainCommand)
def add(
    name: Annotated[str | None, typer.Argument(help="What to call it, such as grove-live.")] = None,
    location: Annotated[
        str | None, typer.Argument(help="practice:FILE, folder:PATH, nodered+http://HOST:PORT or https://HOST/PATH")
    ] = None,
    role: Annotated[str, typer.Option(help="build, test or live; build if left out.")] = "build",
    region: Annotated[str, typer.Option(help="The region its data belong to.")] = "",
    customer: Annotated[str, typer.Option(help="Whose it is.")] = "",
    sign_in: Annotated[str, typer.Option(help="Where its secret is kept: env:NAME.")] = "",
    user: Annotated[str, typer.Option(help="The account to sign in with.")] = "",
    bridge: Annotated[
        str,
        typer.Option(
            help="The bridge sheet that describes its REST interface: a file, or the name of one that ships."
        ),
    ] = "",
    own: Annotated[
        list[str] | None,
        typer.Option("--own", metavar="NAME=VALUE", help="What that sheet asks of each environment, as a realm."),
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Add an environment; at a terminal it asks for what is left out.

    \b
    Examples:
      amphora env add grove-dev practice:grove-dev.practice --role build
      amphora env add grove-live practice:grove-live.practice --role live --region north
      amphora env add line-one nodered+http://127.0.0.1:1880 --role test --sign-in env:LINE_ONE_TOKEN
      amphora env add press https://press.halcyon.example --bridge press.toml --sign-in env:PRESS_TOKEN
    """
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.once import said_once
    from amphora.core.values.pairs import pair_of
    from amphora.environments.locations import adapter_for
    from amphora.files.workspace import EnvironmentEntry
    from amphora.files.workspace_rules import ROLES
    from amphora.files.workspace_writer import add_environment
    from amphora.render.peek import env_added_result

    with working(json, workspace) as work:
        if not (name and location):
            name, location, role = _asked(work, name, location, role)
        if role not in ROLES:
            raise UsageFault(
                f"--role is {', '.join(ROLES[:-1])} or {ROLES[-1]}, not {role!r}.",
                subject=role,
                next_step=to_type("env", "add", "--help"),
            )
        pairs = [pair_of(one, "NAME=VALUE", "--own realm=mill") for one in own or ()]
        said_once(pairs, "values")
        said = dict(pairs)
        if bridge:
            from amphora.environments.bridge.source import read_bridge

            # Read before it is named anywhere: what is wrong in it is said now, with its line.
            read_bridge(bridge, work.session.workspace.folder, said, name)
        elif own:
            words = "--own is what a bridge sheet asks for, and --bridge names none."
            raise UsageFault(words, subject=name, next_step=to_type("env", "add", "--help"))
        else:
            adapter_for(location)
        # Not reached here: many are added before anybody can sign in; `env test` is the next step.
        entry = EnvironmentEntry(name, location, role, region, customer, sign_in, user, bridge=bridge, own=said)
        add_environment(work.session.workspace, entry)
        work.show(env_added_result(entry))


def _asked(work: Work, name: str | None, location: str | None, role: str) -> tuple[str, str, str]:
    """Name, location and role, asked for at a terminal."""
    from amphora.core.values.errors import NotReady

    if not work.is_terminal:
        raise NotReady(
            "It isn't said what to add, and nobody is here to ask.",
            next_step=to_type("env", "add", blank("NAME"), blank("LOCATION")),
        )
    # Questions go to stderr: what is on stdout may be read by a program.
    name = name or typer.prompt("What is it called", err=True)
    location = location or typer.prompt(
        "Where is it (practice:FILE, nodered+http://HOST:PORT, https://HOST/PATH)", err=True
    )
    role = typer.prompt("What is it for: build, test or live", default=role, err=True)
    return str(name), str(location), str(role)


@app.command("sign-in", cls=PlainCommand)
def sign_in_(
    environment: Annotated[str, typer.Argument(help="Its name in the workspace.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Put an environment's secret into the keyring.

    \b
    Example:
      amphora env sign-in line-one
    """
    from amphora.core.values.errors import NotReady
    from amphora.environments.locations import keep_secret
    from amphora.files.workspace_writer import set_sign_in
    from amphora.render.peek import signed_in_result

    with working(json, workspace) as work:
        # Known before a secret is asked for: nobody types one in vain.
        entry = work.session.workspace.environment(environment)
        if not work.is_terminal:
            raise NotReady(
                "A secret is only taken at a terminal, where nobody else reads along.",
                subject=environment,
                next_step=advice('Set a variable and write sign_in = "env:NAME" in amphora.toml.'),
            )
        keep_secret(
            entry.name, typer.prompt(visible(f"Token or password for {entry.name}"), hide_input=True, err=True)
        )
        # Only after it is kept: a workspace must not point to where nothing is.
        set_sign_in(work.session.workspace, entry.name, f"keyring:{entry.name}")
        work.show(signed_in_result(entry.name))


@app.command("remove", cls=PlainCommand)
def remove(
    environment: Annotated[str, typer.Argument(help="Its name in the workspace.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Take an environment out of the workspace.

    What the ledger knows of it stays, and counts again should it be added once more.

    \b
    Example:
      amphora env remove grove-south
    """
    from amphora.engine.environments import remove_environment
    from amphora.render.peek import env_removed_result

    with working(json, workspace) as work:
        remove_environment(work.session, environment)
        work.show(env_removed_result(environment))


@app.command("rename", cls=PlainCommand)
def rename(
    environment: Annotated[str, typer.Argument(help="Its name in the workspace.")],
    name: Annotated[str, typer.Argument(help="What to call it from now on.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Call an environment something else, everywhere.

    \b
    Example:
      amphora env rename grove-south grove-coast
    """
    from amphora.engine.environments import rename_environment
    from amphora.render.peek import env_renamed_result

    with working(json, workspace) as work:
        work.show(env_renamed_result(environment, name, rename_environment(work.session, environment, name)))


@app.command("list", cls=PlainCommand)
def list_(json: JsonFlag = False, workspace: FolderOption = None, debug: DebugFlag = False) -> None:
    """List the environments.

    \b
    Example:
      amphora env list
    """
    from amphora.render.peek import env_list_result

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
    from amphora.render.imports import of_namesake
    from amphora.render.peek import env_test_result

    with working(json, workspace) as work:
        opened = work.session.open(environment)
        # What is said here is what `check` compares with: asked in the same way.
        identity = opened.environment.whoami()
        if namesake := work.session.namesake(opened):
            work.tell([of_namesake(environment, namesake)])
        work.show(env_test_result(opened.entry, opened.description, identity))


@app.command("prove", cls=PlainCommand)
def proved(
    environment: Annotated[str, typer.Argument(help="A test environment; a live one is refused.")],
    yes: Annotated[bool, typer.Option("--yes", help="Don't ask: items are made there, and removed again.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Try whether an environment keeps what an environment promises.

    For whoever writes a bridge sheet, an adapter or a server. Copies of what is there are made in a folder of their
    own, changed, published, switched and removed again.

    \b
    Examples:
      amphora env prove grove-test --yes
    """
    from amphora.core.values.errors import NotReady
    from amphora.core.values.next_step import to_type
    from amphora.core.values.visible import visible
    from amphora.engine.prove import prove, refuse_live
    from amphora.render.prove import proved_result

    with working(json, workspace) as work:
        # Before the question: nobody is asked about what is refused anyway.
        refuse_live(work.session, environment)
        if not yes and not work.is_terminal:
            raise NotReady(
                f"Items would be made in {environment} and removed again, and nobody is here to ask.",
                subject=environment,
                next_step=to_type("env", "prove", environment, "--yes"),
            )
        question = f"Make copies of items in {environment}, and remove them again?"
        if not yes and not typer.confirm(visible(question), err=True):
            work.tell(["Nothing was touched."])
            raise typer.Exit(3)
        work.show(proved_result(environment, prove(work.session, environment)))
