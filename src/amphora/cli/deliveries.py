"""deliveries."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def deliveries(
    environment: Annotated[str, typer.Argument(help="Where the item is.")],
    item: Annotated[str, typer.Argument(help="Key, title, native id or link.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Who delivered an item when, and whose it is.

    And what happened to it since.

    \b
    Examples:
      amphora deliveries grove-live "Weigh ticket"
    """
    from amphora.engine.deliveries import trace
    from amphora.render.deliveries import deliveries_result

    with working(json, workspace) as work:
        work.show(deliveries_result(trace(work.session, environment, item)))
