"""export, check and map."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.working import DebugFlag, FolderOption, JsonFlag, working


def export(
    environment: Annotated[
        str, typer.Argument(metavar="ENVIRONMENT|SELECTION", help="Where to take them from; or a saved selection.")
    ],
    items: Annotated[list[str] | None, typer.Argument(help="Key, pattern, title, native id or link.")] = None,
    name: Annotated[str | None, typer.Option("--as", metavar="NAME", help="What to call the package.")] = None,
    leave_out: Annotated[
        list[str] | None,
        typer.Option("--leave-out", metavar="ITEM", help="Stays at home; the target has to have it."),
    ] = None,
    take: Annotated[str, typer.Option(help="live (as it is) or draft, for items with unpublished edits.")] = "live",
    version: Annotated[str | None, typer.Option(help="A SemVer version of your own.")] = None,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write it there.")] = None,
    note: Annotated[str, typer.Option(help="A line for those who receive it.")] = "",
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="WHAT", help="access: the access rules of apps; records: the rows of tables."),
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="WHAT", help="attachments: they stay behind, the target keeps its own."),
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would go in, and why.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Make a package of items and all that they use.

    \b
    Examples:
      amphora export grove-dev "Harvest Intake" --as olive-intake
      amphora export grove-dev "flow:mill/*" "Press Board" --as press-hall --take draft
      amphora export grove-dev "Harvest Intake" --as olive-intake --leave-out "Olive varieties"
      amphora export grove-dev "Press Board" --as press-hall --with access --preview
      amphora export olive-intake
    """
    from amphora.engine.selecting import Wish, export_wish
    from amphora.render.packing import export_result

    with working(json, workspace) as work:
        wish = Wish(environment, tuple(items or ()), name, tuple(leave_out or ()), take, tuple(with_ or ()))
        wish = replace(wish, without=tuple(without or ()))
        report = export_wish(work.session, wish, version=version, out=out, note=note, preview=preview)
        environment = report.contents.source
        work.show(export_result(report, work.session.likely_target(environment)))


def check(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, or file.")],
    environments: Annotated[list[str] | None, typer.Argument(help="One or more targets.")] = None,
    strict: Annotated[bool, typer.Option("--strict", help="Warnings count too.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Find what would go wrong on the far side.

    \b
    Examples:
      amphora check olive-intake
      amphora check olive-intake grove-test grove-live
    """
    from amphora.engine.preparing import check_package
    from amphora.render.packing import check_result

    with working(json, workspace) as work:
        contents = opened_package(work, package)
        targets = environments or [""]
        findings = {target: check_package(work.session, contents, target or None) for target in targets}
        work.show(check_result(contents, findings, strict))


def map_(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, or file.")],
    environments: Annotated[list[str], typer.Argument(help="One or more targets.")],
    values: Annotated[
        list[str] | None, typer.Option("--set", metavar="NAME=VALUE", help="Map one need (one target only).")
    ] = None,
    accept: Annotated[bool, typer.Option("--accept", help="Accept every guess.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Fill in what each need of a package is called there.

    \b
    Examples:
      amphora map olive-intake grove-live
      amphora map olive-intake grove-live --accept
      amphora map olive-intake grove-live --set mill-db-dev=mill-main --set weigh-ticket-batch=40
    """
    from amphora.engine.mapping import map_package
    from amphora.render.packing import map_result

    with working(json, workspace) as work:
        contents = opened_package(work, package)
        mapped, changed = map_package(work.session, contents, environments, values or (), accept)
        work.show(map_result(contents, mapped, work.session.workspace.crosswalk.name, changed))
