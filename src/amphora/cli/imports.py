"""import."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, Work, working

if TYPE_CHECKING:
    from amphora.core.values.model import Contents
    from amphora.engine.docket import Prepared

DOCKET_SUFFIX = ".docket.yaml"


def import_(
    package: Annotated[str, typer.Argument(metavar="PACKAGE|DOCKET", help="A package, or a docket file.")],
    environments: Annotated[list[str] | None, typer.Argument(help="The targets, one after the other.")] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be done.")] = False,
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="WHAT", help="records: load rows into tables that are new there."),
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="WHAT", help="attachments: the target keeps its own; access: no rules."),
    ] = None,
    retire: Annotated[
        list[str] | None,
        typer.Option("--retire", metavar="ITEM", help="Remove this one, which the package no longer holds."),
    ] = None,
    let_go: Annotated[
        list[str] | None,
        typer.Option("--let-go", metavar="ITEM", help="Leave this one there, and end the package's claim."),
    ] = None,
    take_over: Annotated[
        list[str] | None,
        typer.Option("--take-over", metavar="PACKAGE", help="Override what that package delivered, too."),
    ] = None,
    custody: Annotated[
        str, typer.Option("--custody", help="package or target: in whose hands the target's copy is then.")
    ] = "",
    yes: Annotated[
        bool, typer.Option("--yes", help="Agree to creating items, and to updating those without local edits.")
    ] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Carry out an import; if a step fails, all is put back.

    \b
    Examples:
      amphora import olive-intake grove-live --preview
      amphora import olive-intake grove-live --yes
      amphora import intake.docket.yaml --yes
    """
    from amphora.core.values.errors import UsageFault
    from amphora.engine.docket import prepare
    from amphora.engine.imports import prepare_from_docket, with_records

    with working(json, workspace) as work:
        if package.endswith(DOCKET_SUFFIX):
            if retire or let_go or custody or take_over:
                raise UsageFault(
                    "What a docket decides stands in it.", next_step=f"Write it into {package}, by hand."
                )
            prepared = prepare_from_docket(work.session, Path(package), without or ())
            _require_trust(work, prepared.contents)
            _import_one(work, with_records(prepared, with_ or ()), preview, yes, ())
            return
        if not environments:
            raise UsageFault("Into which environment?", next_step=f"amphora import {package} ENVIRONMENT")
        contents = opened_package(work, package)
        _require_trust(work, contents)
        for name in environments:
            fates = dict.fromkeys(retire or (), "retire") | dict.fromkeys(let_go or (), "let-go")
            prepared = prepare(
                work.session, contents, name, without=without or (), fates=fates, custody=checked_custody(custody)
            )
            prepared = with_records(prepared, with_ or ())
            _import_one(work, prepared, preview, yes, take_over or ())


def checked_custody(custody: str) -> str:
    """The custody asked for; UsageFault where it is none."""
    from amphora.core.values.errors import UsageFault

    if custody not in ("", "package", "target"):
        raise UsageFault(f"--custody is package or target, not {custody!r}.", next_step="amphora import --help")
    return custody


def _require_trust(work: Work, contents: Contents) -> None:
    if work.session.workspace.is_signature_required:
        from amphora.files.signing import require_signature

        require_signature(contents, work.session.workspace.keys)


def _import_one(work: Work, prepared: Prepared, preview: bool, yes: bool, take_over: Sequence[str]) -> None:
    from amphora.engine.imports import ask_for, import_prepared, is_recorded, refuse_unready
    from amphora.render.imports import idle_result, import_result, preview_result, target_lines

    docket, opened = prepared.docket, prepared.opened
    work.tell(target_lines(opened.entry, opened.environment.whoami(), opened.description.release))
    if preview:
        work.show(preview_result(docket))
        return
    refuse_unready(docket)
    if docket.is_idle:
        if not is_recorded(work.session, docket):
            import_prepared(work.session, prepared)
        work.show(idle_result(docket))
        return
    question = ask_for(prepared, yes, work.is_terminal, take_over)
    if question and not typer.confirm(question, err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    outcome, verified = import_prepared(work.session, prepared)
    if outcome.failure:
        raise outcome.failure
    work.show(import_result(docket, outcome, verified))
