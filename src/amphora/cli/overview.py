"""overview."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, one_format, working


def overview(
    environments: Annotated[
        list[str] | None, typer.Argument(metavar="[ENV|GROUP]...", help="Only these; else all of them.")
    ] = None,
    figure: Annotated[Path | None, typer.Option(metavar="FILE", help="Draw it, as FILE.svg or FILE.png.")] = None,
    html: Annotated[Path | None, typer.Option(metavar="FILE", help="Write it as one page.")] = None,
    csv: Annotated[bool, typer.Option("--csv", help="As CSV, for a spreadsheet.")] = False,
    from_ledger: Annotated[
        bool, typer.Option("--from-ledger", help="By the ledger alone, without a look at the environments.")
    ] = False,
    expect_clean: Annotated[
        bool, typer.Option("--expect-clean", help="For a nightly job: exit 1 where anything is not in order.")
    ] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Which version of what is in force where.

    \b
    Examples:
      amphora overview
      amphora overview live-sites --figure overview.png --html overview.html
      amphora overview --expect-clean
    """
    from amphora.engine.overview import overview as look_over
    from amphora.render.overview import overview_csv, overview_page, overview_result

    one_format(json=json, csv=csv)
    with working(json, workspace) as work:
        names = work.session.workspace.targets(environments) if environments else []
        found = look_over(work.session, names or list(work.session.workspace.environments), not from_ledger)
        if figure:
            from amphora.render.overview_figure import draw_overview

            draw_overview(found, figure)
        if html:
            from amphora.engine.session import utc_now

            html.write_text(overview_page(found, utc_now()), encoding="utf-8")
        result = overview_result(found, expect_clean)
        if csv:
            work.write(overview_csv(found))
            raise typer.Exit(result.code)
        work.show(result)
