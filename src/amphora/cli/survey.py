"""survey."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, one_format, working


def survey(
    environment: Annotated[str, typer.Argument(help="Where to look.")],
    items: Annotated[list[str] | None, typer.Argument(help="Key, pattern, title, native id or link.")] = None,
    tree: Annotated[bool, typer.Option("--tree", help="By folders.")] = False,
    drafts: Annotated[bool, typer.Option("--drafts", help="Only what has unpublished edits.")] = False,
    changed_since: Annotated[
        str,
        typer.Option(
            "--changed-since", metavar="TIME", help='Only what changed since: 2026-04-01, yesterday, "3 days".'
        ),
    ] = "",
    sort: Annotated[str, typer.Option(help="key, title, changed, rows, size, uses or used-by.")] = "key",
    csv: Annotated[bool, typer.Option("--csv", help="As CSV, for a spreadsheet.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what is in an environment.

    \b
    Examples:
      amphora survey grove-dev
      amphora survey grove-dev --tree
      amphora survey grove-dev "flow:mill/*"
      amphora survey grove-dev --changed-since 2026-04-01 --sort changed
    """
    from amphora.engine.survey import survey as survey_items
    from amphora.render.survey import survey_csv, survey_result

    one_format(json=json, csv=csv)
    with working(json, workspace) as work:
        session = work.session
        rows = survey_items(session, environment, items or (), drafts=drafts, changed_since=changed_since, sort=sort)
        if csv:
            work.write(survey_csv(rows))
            return
        is_part = bool(items or drafts or changed_since)
        sheets = session.open(environment).description.sheets
        work.show(survey_result(environment, rows, sheets, is_part, tree, sort == "size"))
