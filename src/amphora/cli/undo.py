"""undo."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.work import (
    BreakFlag,
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    WaitOption,
    working,
)
from amphora.core.values.next_step import to_type
from amphora.core.values.visible import visible

if TYPE_CHECKING:
    pass


def undo(
    run: Annotated[
        str, typer.Argument(help="A run, or an import into many targets; last for the latest run that is in force.")
    ],
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="ENV", help="Of an import into many targets: only in this one."),
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be put back.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Agree without being asked.")] = False,
    wait: WaitOption = 0.0,
    break_lock: BreakFlag = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Put back what a run did.

    What others changed since stays, whole, and is named.

    \b
    Examples:
      amphora undo last --preview
      amphora undo last
      amphora undo grove-live-2 --yes
      amphora undo many-1 --only grove-south --yes
    """
    from amphora.cli.campaign import undo_many
    from amphora.core.values.errors import NotReady, UsageFault
    from amphora.engine.undo import foreseen, run_to_undo
    from amphora.engine.undo import undo as undo_run
    from amphora.render.undo import foreseen_result, undo_result

    with working(json, workspace, progress) as work:
        work.be_patient(wait, break_lock)
        if campaign := work.session.ledger.campaigns.named(run):
            undo_many(work, campaign, only or [], preview, yes)
            return
        if only:
            raise UsageFault(f"{run} went to one target.", subject=run, next_step=to_type("undo", run))
        found = run_to_undo(work.session, run)
        if preview:
            work.show(foreseen_result(found, foreseen(work.session, found)))
            return
        if not yes and not work.is_terminal:
            message = f"Nobody is here to confirm that {found.name} is put back; nothing was touched."
            raise NotReady(message, subject=found.name, next_step=to_type("undo", found.name, "--yes"))
        what = f"{found.package} {found.version}".strip()
        question = f"Put back what {found.name} did ({found.kind} of {what}, {found.environment})?"
        if not yes and not typer.confirm(visible(question), err=True):
            raise typer.Exit(3)
        work.show(undo_result(undo_run(work.session, found)), has_changed=True)
