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
    Work,
    working,
)
from amphora.core.values.next_step import to_type
from amphora.core.values.visible import visible

if TYPE_CHECKING:
    from amphora.ledger.records import Campaign


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
    """Put back what a run did; what others changed since stays, whole, and is named.

    \b
    Examples:
      amphora undo last --preview
      amphora undo last
      amphora undo grove-live-2 --yes
      amphora undo many-1 --only grove-south --yes
    """
    from amphora.core.values.errors import NotReady, UsageFault
    from amphora.engine.undo import foreseen, run_to_undo
    from amphora.engine.undo import undo as undo_run
    from amphora.render.undo import foreseen_result, undo_result

    with working(json, workspace, progress) as work:
        work.be_patient(wait, break_lock)
        if campaign := work.session.ledger.campaigns.named(run):
            _undo_many(work, campaign, only or [], preview, yes)
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


def _undo_many(work: Work, campaign: Campaign, only: list[str], preview: bool, yes: bool) -> None:
    """Undoes an import into many targets, in all of them or in some."""
    from dataclasses import replace

    from amphora.core.values.errors import NotReady
    from amphora.core.values.words import few
    from amphora.engine.campaign import runs_to_undo, undo_all
    from amphora.engine.undo import foreseen
    from amphora.render.result import Result
    from amphora.render.rounds import back_result
    from amphora.render.undo import foreseen_result

    runs = runs_to_undo(work.session, campaign, only)
    names = few([run.environment for run in runs], 8)
    again = [word for name in only for word in ("--only", name)]
    if preview:
        shown = [foreseen_result(run, foreseen(work.session, run)) for run in runs]
        words = f"Preview, nothing was touched. Undoing {campaign.name} would put back {len(runs)} runs: {names}."
        blocks = [
            replace(block, title=run.name) for run, one in zip(runs, shown, strict=True) for block in one.blocks
        ]
        data = {"preview": True, "campaign": campaign.name, "runs": [one.data for one in shown]}
        work.show(Result("undo", words, "plain", blocks, data, to_type("undo", campaign.name, *again)))
        return
    if not yes and not work.is_terminal:
        message = f"Nobody is here to confirm that {campaign.name} is put back; nothing was touched."
        raise NotReady(message, subject=campaign.name, next_step=to_type("undo", campaign.name, *again, "--yes"))
    question = f"Put back what {campaign.name} did ({campaign.package} {campaign.version}, in {names})?"
    if not yes and not typer.confirm(visible(question), err=True):
        raise typer.Exit(3)
    found, trouble = undo_all(work.session, campaign, runs)
    rest = [run.environment for run in runs[len(found) :]]
    work.show(back_result(campaign.name, found, rest, trouble), has_changed=True)
