"""verify, undo and history."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def verify(
    subject: Annotated[str, typer.Argument(metavar="RUN|PACKAGE", help="A run (last for the latest) or a package.")],
    environment: Annotated[str | None, typer.Argument(help="Where, for a package.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Is the target what was promised?

    \b
    Examples:
      amphora verify olive-intake grove-live
      amphora verify last
    """
    from amphora.core.values.errors import NotReady
    from amphora.engine.verify import verify as verify_deliveries
    from amphora.engine.verify import verify_package
    from amphora.render.history import verify_result

    with working(json, workspace) as work:
        if environment is None:
            run = work.session.ledger.run(subject)
            delivered = work.session.ledger.delivered(run)
            if not delivered:
                message = f"{run.name} delivered nothing that could be verified: it is {run.state}."
                raise NotReady(message, subject=run.name, next_step=f"amphora history {run.name}")
            found = verify_deliveries(work.session, run.environment, delivered)
            work.show(verify_result(run.package, run.version, run.environment, found))
            return
        version, found = verify_package(work.session, subject, environment)
        work.show(verify_result(subject, version, environment, found))


def undo(
    run: Annotated[str, typer.Argument(help="A run; last for the latest.")],
    yes: Annotated[bool, typer.Option("--yes", help="Agree without being asked.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Put back what a run did; what others changed since stays.

    \b
    Examples:
      amphora undo last
      amphora undo grove-live-2 --yes
    """
    from amphora.core.values.errors import NotReady
    from amphora.engine.imports import undo as undo_run
    from amphora.render.history import undo_result

    with working(json, workspace) as work:
        found = work.session.ledger.run(run)
        if not yes and not work.is_terminal:
            message = f"Nobody is here to confirm that {found.name} is put back; nothing was touched."
            raise NotReady(message, subject=found.name, next_step=f"amphora undo {found.name} --yes")
        question = f"Put back what {found.name} did ({found.package} {found.version} into {found.environment})?"
        if not yes and not typer.confirm(question, err=True):
            raise typer.Exit(3)
        work.show(undo_result(*undo_run(work.session, found.name)))


def history(
    run: Annotated[str | None, typer.Argument(help="One run in full; last for the latest.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Who moved what when.

    \b
    Examples:
      amphora history
      amphora history last
    """
    from amphora.render.history import history_result, run_result

    with working(json, workspace) as work:
        ledger = work.session.ledger
        if run is None:
            work.show(history_result(ledger.runs()))
            return
        found = ledger.run(run)
        work.show(run_result(found, ledger.journal(found)))
