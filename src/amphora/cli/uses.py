"""uses."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


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
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.engine.survey import uses_of
    from amphora.render.survey import uses_result

    with working(json, workspace) as work:
        if depth is not None and depth < 1:
            raise UsageFault(f"--depth is 1 or more, not {depth}.", next_step=to_type("uses", "--help"))
        net = uses_of(work.session, environment, item)
        if figure is not None:
            from amphora.render.figures import draw_uses

            draw_uses(net, depth, figure)
        work.show(uses_result(net, depth, str(figure or "")))
