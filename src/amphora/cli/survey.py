"""survey, uses and peek."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, Work, working


def show_workspace(work: Work) -> bool:
    """Shows where the workspace stands; false where there is none."""
    from amphora.core.values.errors import UsageFault
    from amphora.files.package import SUFFIX
    from amphora.files.workspace import FILE

    try:
        workspace = work.session.workspace
    except UsageFault as error:
        if error.subject == FILE:
            return False
        raise
    from amphora.render.peek import workspace_result

    packages = sorted(workspace.packages.glob(f"*{SUFFIX}"), key=lambda path: path.stat().st_mtime)
    names = [path.name.removesuffix(SUFFIX) for path in packages]
    runs = work.session.ledger.runs() if workspace.ledger.exists() else []
    work.show(workspace_result(workspace.folder, list(workspace.environments), names, runs))
    return True


def survey(
    environment: Annotated[str, typer.Argument(help="Where to look.")],
    items: Annotated[list[str] | None, typer.Argument(help="Key, pattern, title, native id or link.")] = None,
    tree: Annotated[bool, typer.Option("--tree", help="By folders.")] = False,
    drafts: Annotated[bool, typer.Option("--drafts", help="Only what has unpublished edits.")] = False,
    changed_since: Annotated[
        str, typer.Option("--changed-since", metavar="TIME", help="Only what changed since, such as 2026-04-01.")
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

    with working(json, workspace) as work:
        session = work.session
        rows = survey_items(session, environment, items or (), drafts=drafts, changed_since=changed_since, sort=sort)
        if csv:
            work.write(survey_csv(rows))
            return
        is_part = bool(items or drafts or changed_since)
        sheets = session.open(environment).description.sheets
        work.show(survey_result(environment, rows, sheets, is_part, tree, sort == "size"))


def uses(
    environment: Annotated[str, typer.Argument(help="Where it is.")],
    item: Annotated[str, typer.Argument(help="Key, title, native id or link.")],
    depth: Annotated[int | None, typer.Option("--depth", help="How many steps to follow; all if left out.")] = None,
    figure: Annotated[
        Path | None, typer.Option("--figure", metavar="FILE", help="Draw it as well: FILE.svg or FILE.png.")
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """What an item uses, and what uses it.

    \b
    Examples:
      amphora uses grove-dev "Harvest Intake"
      amphora uses grove-dev "Press log" --depth 1
      amphora uses grove-dev "Harvest Intake" --figure intake.svg
    """
    from amphora.engine.survey import uses_of
    from amphora.render.survey import uses_result

    with working(json, workspace) as work:
        net = uses_of(work.session, environment, item)
        if figure is not None:
            from amphora.render.figures import draw_uses

            draw_uses(net, depth, figure)
        work.show(uses_result(net, depth, str(figure or "")))


def peek(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, or file.")],
    item: Annotated[str | None, typer.Argument(help="One item of it, to see whole.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what is in a package, and what it needs.

    \b
    Examples:
      amphora peek olive-intake
      amphora peek olive-intake "Weigh ticket"
    """
    from amphora.cli.packages import opened_package
    from amphora.core.needs.selection import choose
    from amphora.engine.export import listed_items
    from amphora.render.peek import peek_item_result, peek_result

    with working(json, workspace) as work:
        contents = opened_package(work, package)
        if item is None:
            signature = ""
            if contents.signature:
                from amphora.files.signing import judged

                verdict = judged(contents, work.trusted_keys)
                signature = verdict.words
            work.show(peek_result(contents, work.likely_target(contents.source), signature))
            return
        [key, *_] = choose([item], listed_items(contents), contents.title)
        work.show(peek_item_result(contents, key))
