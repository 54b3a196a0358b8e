"""survey and peek."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.working import DebugFlag, FolderOption, JsonFlag, working


def survey(
    environment: Annotated[str, typer.Argument(help="Where to look.")],
    items: Annotated[list[str] | None, typer.Argument(help="Key, pattern, title, native id or link.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what is in an environment.

    \b
    Examples:
      amphora survey grove-dev
      amphora survey grove-dev "flow:mill/*"
      amphora survey grove-dev "Harvest Intake"
    """
    from amphora.core.selection import choose
    from amphora.engine.sides import own_side
    from amphora.render.looking import survey_result

    with working(json, workspace) as work:
        session = work.session
        opened = session.open(environment)
        rows = own_side(opened, session.ledger, session.crosswalk).by_key
        chosen = choose(items, rows, environment) if items else list(rows)
        found = {key: rows[key] for key in chosen}
        work.show(survey_result(environment, found, opened.description.sheets, bool(items)))


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
    from amphora.core.selection import choose
    from amphora.engine.exporting import listed_items
    from amphora.render.looking import peek_item_result, peek_result

    with working(json, workspace) as work:
        contents = opened_package(work, package)
        if item is None:
            work.show(peek_result(contents, work.likely_target(contents.source)))
            return
        [key, *_] = choose([item], listed_items(contents), contents.title)
        work.show(peek_item_result(contents, key))
