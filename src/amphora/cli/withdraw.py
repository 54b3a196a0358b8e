"""withdraw."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import (
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    working,
)


def withdraw(
    package: Annotated[str, typer.Argument(help="A package's name.")],
    environment: Annotated[str, typer.Argument(help="Where to remove what it alone brought.")],
    let_go: Annotated[
        list[str] | None, typer.Option("--let-go", metavar="ITEM", help="Leave this one there, without a claim.")
    ] = None,
    retire_all: Annotated[
        bool, typer.Option("--retire-all", help="Agree that all that is listed is removed, with its rows.")
    ] = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Remove what a package alone brought.

    Definitions and rows are kept in the run's folder. What was there before it, or was handed over
    (import --custody target), stays.

    \b
    Examples:
      amphora withdraw press-hall grove-test
      amphora withdraw press-hall grove-test --let-go "Press log" --retire-all
    """
    from amphora.cli.typed import retyped
    from amphora.engine.withdraw import withdraw as carry_out
    from amphora.engine.withdraw import withdrawal
    from amphora.render.imports import target_lines
    from amphora.render.withdraw import withdrawal_result

    with working(json, workspace, progress) as work:
        prepared = withdrawal(work.session, package, environment, dict.fromkeys(let_go or (), "let-go"), retyped())
        opened = prepared.opened
        work.tell(target_lines(opened, work.session.namesake(opened)))
        result = withdrawal_result(prepared.docket, None)
        if not retire_all:
            work.show(result)
            return
        outcome = carry_out(work.session, prepared)
        if outcome.failure:
            raise outcome.failure
        work.show(withdrawal_result(prepared.docket, outcome), has_changed=True)
