"""edits."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working
from amphora.core.values.next_step import advice


def edits(
    environment: Annotated[str, typer.Argument(help="Where somebody may have edited something.")],
    carry_back: Annotated[
        bool, typer.Option("--carry-back", help="Make a package of the edits, for where things are built.")
    ] = False,
    put_back: Annotated[
        bool, typer.Option("--put-back", help="Write a docket that restores what was delivered.")
    ] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """What was edited in an environment since Amphora delivered it.

    \b
    Examples:
      amphora edits grove-live
      amphora edits grove-live --carry-back
      amphora edits grove-live --put-back
    """
    from amphora.core.values.errors import UsageFault
    from amphora.engine.edits import carry_back as carried
    from amphora.engine.edits import edits_of, holds_ours, origin_of, put_back_dockets
    from amphora.files.docket_file import write_docket
    from amphora.render.edits import edits_result

    with working(json, workspace) as work:
        if carry_back and put_back:
            raise UsageFault(
                "--carry-back keeps the edits, --put-back drops them.", next_step=advice("Choose one of them.")
            )
        found = edits_of(work.session, environment)
        made, files = "", []
        if carry_back:
            _, made = carried(work.session, environment, found)
        if put_back:
            for docket in put_back_dockets(work.session, environment, found):
                files.append(f"{docket.package}-{docket.version}.{environment}.docket.yaml")
                write_docket(work.session.workspace.folder / files[-1], docket)
        origin = origin_of(work.session, found) if made else ""
        has_packages = holds_ours(work.session, environment)
        work.show(edits_result(environment, found, made, files, origin, has_packages))
