"""sign and keys."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, PlainCommand, Work, working
from amphora.core.values.next_step import advice

app = typer.Typer(
    help="Keys to sign with, and whom to trust.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    context_settings={"show_default": False},
)


def sign(
    package: Annotated[
        str, typer.Argument(metavar="PACKAGE|DOCKET", help="A package's name, NAME-VERSION or file; or a docket.")
    ],
    key: Annotated[str, typer.Option("--key", metavar="NAME", help="Which of your keys.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Sign a package, or agree to a docket.

    \b
    Examples:
      amphora sign olive-intake --key ines
      amphora sign live.docket.yaml --key petra
    """
    from amphora.files.agreements import agree, agreements
    from amphora.files.docket_file import is_docket
    from amphora.files.package import find_package
    from amphora.files.signatures import sign_package
    from amphora.render.sign import agreed_result, sign_result

    with working(json, workspace) as work:
        if is_docket(Path(package)):
            from amphora.engine.session import utc_now

            file = agree(Path(package), key, utc_now())
            found = work.session.workspace
            work.show(agreed_result(file, agreements(file, found.keys), needed(work, file.target), key))
            return
        path = Path(package) if Path(package).is_file() else find_package(package, work.session.workspace.packages)
        work.show(sign_result(sign_package(path, key), key, path))


def needed(work: Work, target: str) -> int:
    """How many people have to agree to an import into an environment."""
    entry = work.session.workspace.environments.get(target) if work.has_workspace else None
    return work.session.workspace.approvals.get(entry.role, 0) if entry else 0


@app.command("new", cls=PlainCommand)
def new(
    name: Annotated[str, typer.Argument(help="What to call it, such as your own name.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Make a key pair; the private half stays with you.

    \b
    Example:
      amphora keys new ines
    """
    from amphora.files.signatures import new_key
    from amphora.render.sign import key_result

    with working(json, workspace) as work:
        work.show(key_result(name, new_key(name, work.session.workspace.keys)))


@app.command("trust", cls=PlainCommand)
def trust(
    file: Annotated[Path, typer.Argument(help="A public key as JWK.")],
    name: Annotated[str, typer.Option("--as", metavar="NAME", help="Whose key it is.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Trust somebody's public key in this workspace.

    \b
    Example:
      amphora keys trust petra.jwk.json --as petra
    """
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.strict_json import JsonFault, parse_json
    from amphora.files.signatures import trust_key
    from amphora.render.sign import trust_result

    with working(json, workspace) as work:
        try:
            public = parse_json(file.read_bytes())
        except (OSError, JsonFault) as error:
            reason = (getattr(error, "strerror", None) or str(error)).lower()
            raise UsageFault(
                f"{file} can't be read as a key: {reason}.", subject=str(file), next_step=advice("Give a JWK file.")
            ) from error
        fit = public if isinstance(public, dict) else {}
        work.show(trust_result(name, trust_key(fit, name, work.session.workspace.keys)))


@app.command("list", cls=PlainCommand)
def list_(json: JsonFlag = False, workspace: FolderOption = None, debug: DebugFlag = False) -> None:
    """List the keys that this workspace trusts.

    \b
    Example:
      amphora keys list
    """
    from amphora.files.signatures import trusted_keys
    from amphora.render.sign import keys_result

    with working(json, workspace) as work:
        found = work.session.workspace
        work.show(keys_result(list(trusted_keys(found.keys)), found.is_signature_required))
