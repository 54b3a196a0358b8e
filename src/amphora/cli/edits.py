"""deliveries, edits and withdraw."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def deliveries(
    environment: Annotated[str, typer.Argument(help="Where the item is.")],
    item: Annotated[str, typer.Argument(help="Key, title, native id or link.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Who delivered an item when, whose claim it is, and what happened since.

    \b
    Examples:
      amphora deliveries grove-live "Weigh ticket"
    """
    from amphora.engine.edits import trace
    from amphora.render.edits import deliveries_result

    with working(json, workspace) as work:
        work.show(deliveries_result(trace(work.session, environment, item)))


def edits(
    environment: Annotated[str, typer.Argument(help="Where somebody may have edited something.")],
    carry_back: Annotated[
        bool, typer.Option("--carry-back", help="Make a package of the edits, for where things are built.")
    ] = False,
    put_back: Annotated[
        bool, typer.Option("--put-back", help="Write a docket that restores what was delivered.")
    ] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """What was edited in an environment since Amphora delivered it.

    \b
    Examples:
      amphora edits grove-live
      amphora edits grove-live --carry-back
      amphora edits grove-live --put-back
    """
    from amphora.core.values.errors import UsageFault
    from amphora.engine.edits import carry_back as carried
    from amphora.engine.edits import edits_of, put_back_dockets
    from amphora.files.docket_file import write_docket
    from amphora.render.edits import edits_result

    with working(json, workspace) as work:
        if carry_back and put_back:
            raise UsageFault("--carry-back keeps the edits, --put-back drops them.", next_step="Choose one of them.")
        found = edits_of(work.session, environment)
        made, files = "", []
        if carry_back:
            _, made = carried(work.session, environment, found)
        if put_back:
            for docket in put_back_dockets(work.session, environment, found):
                files.append(f"{docket.package}-{docket.version}.{environment}.docket.yaml")
                write_docket(work.session.workspace.folder / files[-1], docket)
        work.show(edits_result(environment, found, made, files))


def withdraw(
    package: Annotated[str, typer.Argument(help="A package's name.")],
    environment: Annotated[str, typer.Argument(help="Where to remove what it alone brought.")],
    let_go: Annotated[
        list[str] | None, typer.Option("--let-go", metavar="ITEM", help="Leave this one there, without a claim.")
    ] = None,
    retire_all: Annotated[
        bool, typer.Option("--retire-all", help="Agree that all that is listed is removed, with its rows.")
    ] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Remove what a package alone brought; definitions and rows are kept in the run's folder.

    \b
    Examples:
      amphora withdraw press-hall grove-test
      amphora withdraw press-hall grove-test --let-go "Press log" --retire-all
    """
    from amphora.engine.edits import withdraw as carry_out
    from amphora.engine.edits import withdrawal
    from amphora.render.edits import withdrawal_result
    from amphora.render.imports import target_lines

    with working(json, workspace) as work:
        prepared = withdrawal(work.session, package, environment, dict.fromkeys(let_go or (), "let-go"))
        opened = prepared.opened
        work.tell(target_lines(opened.entry, opened.environment.whoami(), opened.description.release))
        result = withdrawal_result(prepared.docket, None)
        if not retire_all:
            work.show(result)
            return
        outcome = carry_out(work.session, prepared)
        if outcome.failure:
            raise outcome.failure
        work.show(withdrawal_result(prepared.docket, outcome))
