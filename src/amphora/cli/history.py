"""history."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def history(
    run: Annotated[
        str | None, typer.Argument(help="One run in full, or one import into many; last for the latest.")
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Who moved what when.

    \b
    Examples:
      amphora history
      amphora history last
      amphora history many-1
    """
    from amphora.render.history import campaign_result, history_result, run_result

    with working(json, workspace) as work:
        journal = work.session.ledger.journal
        if run is None:
            work.show(history_result(journal.runs()))
            return
        if campaign := work.session.ledger.campaigns.named(run):
            work.show(campaign_result(campaign, journal.of_campaign(campaign.name)))
            return
        found = journal.run(run)
        work.show(run_result(found, journal.steps(found), journal.backwards_of(found), journal.legs(found)))
