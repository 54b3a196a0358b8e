"""map."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working
from amphora.core.values.next_step import advice, to_type


def map_(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, file or folder.")],
    environments: Annotated[list[str], typer.Argument(help="One or more targets.")],
    values: Annotated[
        list[str] | None, typer.Option("--set", metavar="NAME=VALUE", help="Map one need (one target only).")
    ] = None,
    made_from: Annotated[
        list[str] | None,
        typer.Option("--made-from", metavar="NAME=ITEM", help="It can be made once this item is there: a pause."),
    ] = None,
    accept: Annotated[bool, typer.Option("--accept", help="Accept every guess.")] = False,
    only: Annotated[
        list[str] | None, typer.Option("--only", metavar="NAME", help="With --accept: the guess for this need.")
    ] = None,
    ask: Annotated[bool, typer.Option("--ask", help="Go through what is open, one by one, at a terminal.")] = False,
    texts: Annotated[
        bool, typer.Option("--texts", help="Show what is rewritten in texts, before and after.")
    ] = False,
    csv_out: Annotated[
        Path | None, typer.Option("--csv-out", metavar="FILE", help="Write the whole crosswalk as a table.")
    ] = None,
    csv_in: Annotated[
        Path | None, typer.Option("--csv-in", metavar="FILE", help="Take over what a table says otherwise.")
    ] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Fill in what each need of a package is called there.

    \b
    Examples:
      amphora map olive-intake grove-live
      amphora map olive-intake grove-live --accept --only mill-db-dev
      amphora map olive-intake grove-live --set mill-db-dev=mill-main --set weigh-ticket-batch=40
      amphora map lab grove-live --made-from "lab-exchange-dev=Lab exchange"
      amphora map olive-intake grove-test grove-live --csv-out crosswalk.csv
      amphora map olive-intake grove-live --texts
    """
    from amphora.cli.questions import asker
    from amphora.cli.typed import typed_but
    from amphora.core.values.errors import UsageFault
    from amphora.engine.crosswalk_table import read_table, write_table
    from amphora.engine.map import doubts, map_makers, map_package, replaced, rewritings
    from amphora.render.map import map_result, texts_result

    with working(json, workspace) as work:
        contents, session = opened_package(work, package), work.session
        environments = session.workspace.targets(environments)
        if only and not accept:
            raise UsageFault(
                "--only says which guesses --accept takes.",
                subject="--only",
                next_step=to_type("map", contents.spoken, environments[0], "--accept", "--only", only[0]),
            )
        if texts:
            if writing := typed_but("texts"):
                raise UsageFault(
                    f"--texts only shows, and {writing[0]} is for what is written.",
                    subject=writing[0],
                    next_step=to_type("map", contents.spoken, environments[0], "--texts"),
                )
            if len(environments) > 1:
                raise UsageFault("--texts is for one target at a time.", next_step=advice("Name one environment."))
            found = rewritings(session, contents, environments[0])
            work.show(texts_result(contents, environments[0], found))
            return
        changed = read_table(session, csv_in) if csv_in else 0
        changed += map_makers(session, contents, environments[0], made_from) if made_from else 0
        person = asker(work) if ask else None
        gone = replaced(session, contents, environments, values or ())
        mapped, written = map_package(session, contents, environments, values or (), accept, only or (), person)
        if csv_out:
            write_table(session, csv_out)
        file = session.workspace.crosswalk.name
        odd = doubts(session, contents, [one for rows in mapped.values() for one in rows])
        there = {need.key: session.crosswalk.value(need.key, contents.source) for need in contents.needs}
        work.show(map_result(contents, mapped, file, changed + written, odd, there, gone))
