"""undo."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import BreakFlag, DebugFlag, FolderOption, JsonFlag, WaitOption, working
from amphora.core.values.next_step import to_type
from amphora.core.values.visible import visible


def undo(
    run: Annotated[str, typer.Argument(help="A run; last for the latest that is in force.")],
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be put back.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Agree without being asked.")] = False,
    wait: WaitOption = 0.0,
    break_lock: BreakFlag = False,
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
    """
    from amphora.core.values.errors import NotReady
    from amphora.engine.undo import foreseen, run_to_undo
    from amphora.engine.undo import undo as undo_run
    from amphora.render.undo import foreseen_result, undo_result

    with working(json, workspace) as work:
        work.be_patient(wait, break_lock)
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
