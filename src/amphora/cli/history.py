"""history."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, one_format, working


def history(
    run: Annotated[
        str | None, typer.Argument(help="One run in full, or one import into many; last for the latest.")
    ] = None,
    env: Annotated[
        list[str] | None, typer.Option("--env", metavar="ENV|GROUP", help="Only of these environments.")
    ] = None,
    package: Annotated[str, typer.Option("--package", metavar="NAME", help="Only of this package.")] = "",
    by: Annotated[str, typer.Option("--by", metavar="NAME", help="Only by accounts with this in their name.")] = "",
    since: Annotated[
        str, typer.Option("--since", metavar="TIME", help='Only since then: 2026-04-01, yesterday, "3 days".')
    ] = "",
    state: Annotated[
        list[str] | None,
        typer.Option("--state", metavar="STATE", help="Only in this state: complete, done, paused, undone …"),
    ] = None,
    csv: Annotated[bool, typer.Option("--csv", help="The list as CSV, for a spreadsheet.")] = False,
    md: Annotated[bool, typer.Option("--md", help="Markdown instead of text.")] = False,
    html: Annotated[
        Path | None, typer.Option("--html", metavar="FILE", help="Write a run as one page, for the change record.")
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Who moved what when, and why; one run in full.

    \b
    Examples:
      amphora history
      amphora history --env live-sites --since "3 days" --csv
      amphora history last
      amphora history grove-live-3 --html record.html
      amphora history many-1
    """
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.engine.record import Asked, record_of, run_to_tell, told_runs
    from amphora.render import history as look

    one_format(json=json, csv=csv, md=md)
    with working(json, workspace) as work:
        asked = Asked(env or (), package, by, since, state or ())
        if run is None:
            if html:
                raise UsageFault("A page is of one run.", next_step=to_type("history", "last", "--html", str(html)))
            tolds = told_runs(work.session, asked)
            if csv or md:
                work.write(look.history_csv(tolds) if csv else look.history_markdown(tolds))
                return
            work.show(look.history_result(tolds, asked != Asked()))
            return
        if asked != Asked() or csv:
            words = "--env, --package, --by, --since, --state and --csv are for the list of runs."
            raise UsageFault(words, subject=run, next_step=to_type("history", run))
        journal = work.session.ledger.journal
        if campaign := work.session.ledger.campaigns.named(run):
            work.show(look.campaign_result(campaign, journal.of_campaign(campaign.name)))
            return
        record = record_of(work.session, run_to_tell(work.session, run))
        if html:
            from amphora.engine.session import utc_now
            from amphora.render.record import record_page

            html.write_text(record_page(record, utc_now()), encoding="utf-8")
        if md:
            work.write(look.record_markdown(record))
            return
        work.show(look.record_result(record))
