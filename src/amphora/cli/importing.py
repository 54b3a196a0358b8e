"""compare and import."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.working import DebugFlag, FolderOption, JsonFlag, Work, working

if TYPE_CHECKING:
    from amphora.core.model import Contents
    from amphora.engine.preparing import Prepared

DOCKET_SUFFIX = ".docket.yaml"


def compare(
    left: Annotated[str, typer.Argument(metavar="A", help="A package or an environment.")],
    right: Annotated[str, typer.Argument(metavar="B", help="An environment or a package.")],
    item: Annotated[str | None, typer.Argument(help="Only this item.")] = None,
    docket: Annotated[
        Path | None, typer.Option("--docket", metavar="FILE", help="Write the docket of the import there.")
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what differs, and what an import would do.

    \b
    Examples:
      amphora compare olive-intake grove-live
      amphora compare olive-intake grove-live "Weigh ticket"
      amphora compare olive-intake grove-live --docket intake.docket.yaml
      amphora compare grove-dev grove-live
      amphora compare olive-intake-1.0.0 olive-intake-1.1.0
    """
    from amphora.engine.comparing import compare_sides, named_key
    from amphora.engine.preparing import prepare
    from amphora.files.docket_file import write_docket
    from amphora.render.importing import compare_result, difference_result

    with working(json, workspace) as work:
        environments = work.session.workspace.environments
        if left in environments or right not in environments:
            sides = [name if name in environments else opened_package(work, name) for name in (left, right)]
            work.show(difference_result(left, right, *compare_sides(work.session, sides[0], sides[1], item)))
            return
        contents = opened_package(work, left)
        prepared = prepare(work.session, contents, right)
        if docket is not None:
            write_docket(docket, prepared.docket)
        only = named_key(contents, item) if item else None
        work.show(compare_result(prepared.docket, str(docket or ""), only))


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
    from amphora.core.errors import UsageFault
    from amphora.engine.importing import prepare_from_docket, with_records
    from amphora.engine.preparing import prepare

    with working(json, workspace) as work:
        if package.endswith(DOCKET_SUFFIX):
            prepared = prepare_from_docket(work.session, Path(package), without or ())
            _require_trust(work, prepared.contents)
            _import_one(work, with_records(prepared, with_ or ()), preview, yes)
            return
        if not environments:
            raise UsageFault("Into which environment?", next_step=f"amphora import {package} ENVIRONMENT")
        contents = opened_package(work, package)
        _require_trust(work, contents)
        for name in environments:
            prepared = with_records(prepare(work.session, contents, name, without=without or ()), with_ or ())
            _import_one(work, prepared, preview, yes)


def _require_trust(work: Work, contents: Contents) -> None:
    if work.session.workspace.is_signature_required:
        from amphora.files.signing import require_signature

        require_signature(contents, work.session.workspace.keys)


def _import_one(work: Work, prepared: Prepared, preview: bool, yes: bool) -> None:
    from amphora.engine.importing import ask_for, import_prepared, is_recorded, refuse_unready
    from amphora.render.importing import idle_result, import_result, preview_result, target_lines

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
    question = ask_for(prepared, yes, work.is_terminal)
    if question and not typer.confirm(question, err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    outcome, verified = import_prepared(work.session, prepared)
    if outcome.failure:
        raise outcome.failure
    work.show(import_result(docket, outcome, verified))
