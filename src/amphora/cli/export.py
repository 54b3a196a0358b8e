"""export, check and map."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


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
    from amphora.engine.selections import Wish, export_wish
    from amphora.render.export import export_result

    with working(json, workspace) as work:
        wish = Wish(environment, tuple(items or ()), name, tuple(leave_out or ()), take, tuple(with_ or ()))
        wish = replace(wish, without=tuple(without or ()))
        report = export_wish(work.session, wish, version=version, out=out, note=note, preview=preview)
        environment = report.contents.source
        work.show(export_result(report, work.session.likely_target(environment)))


def check(
    package: Annotated[str | None, typer.Argument(help="A package's name, NAME-VERSION, file or folder.")] = None,
    environments: Annotated[list[str] | None, typer.Argument(help="One or more targets.")] = None,
    fix: Annotated[
        bool,
        typer.Option("--fix", help="Pack what is missing and add open rows to the crosswalk."),
    ] = False,
    strict: Annotated[bool, typer.Option("--strict", help="Warnings count too.")] = False,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", metavar="FILE", help="Write the findings there as SARIF 2.1.0.")
    ] = None,
    md: Annotated[bool, typer.Option("--md", help="Markdown instead of text, for a ticket.")] = False,
    rules: Annotated[bool, typer.Option("--rules", help="List the rules; nothing is checked.")] = False,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Find what would go wrong on the far side, before anything leaves.

    \b
    Examples:
      amphora check olive-intake
      amphora check olive-intake grove-test grove-live
      amphora check olive-intake grove-live --fix
      amphora check olive-intake grove-live --strict --sarif findings.sarif
      amphora check --rules
    """
    from amphora.core.values.errors import UsageFault
    from amphora.engine.check import check_alone
    from amphora.engine.docket import check_package
    from amphora.engine.fixes import fix_findings
    from amphora.render.check import check_markdown, check_result, rules_result

    with working(json, workspace) as work:
        if rules:
            work.show(rules_result(work.rule_levels))
            return
        if package is None:
            raise UsageFault("It isn't said which package to check.", next_step="amphora check --help")
        contents = opened_package(work, package)
        targets = environments or []
        fixed = None
        if fix:
            fixed = fix_findings(work.session, contents, targets)
            contents = fixed.contents
        if targets:
            findings = {target: check_package(work.session, contents, target) for target in targets}
        else:
            findings = {"": check_alone(work.session_anywhere, contents)}
        if sarif is not None:
            from amphora.render.sarif import sarif_bytes

            sarif.write_bytes(sarif_bytes(contents, findings))
        words = " ".join(["amphora check", contents.name, *targets, "--fix"]) if not fix else ""
        result = check_result(contents, findings, strict, fixed.lines if fixed else (), words)
        if md:
            work.write(check_markdown(contents, findings))
            raise typer.Exit(result.code)
        work.show(result)


def map_(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, file or folder.")],
    environments: Annotated[list[str], typer.Argument(help="One or more targets.")],
    values: Annotated[
        list[str] | None, typer.Option("--set", metavar="NAME=VALUE", help="Map one need (one target only).")
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
      amphora map olive-intake grove-test grove-live --csv-out crosswalk.csv
      amphora map olive-intake grove-live --texts
    """
    from amphora.cli.questions import asker
    from amphora.core.values.errors import UsageFault
    from amphora.engine.crosswalk_table import read_table, write_table
    from amphora.engine.map import doubts, map_package, rewritings
    from amphora.render.map import map_result, texts_result

    with working(json, workspace) as work:
        contents, session = opened_package(work, package), work.session
        if texts:
            if len(environments) > 1:
                raise UsageFault("--texts is for one target at a time.", next_step="Name one environment.")
            found = rewritings(session, contents, environments[0])
            work.show(texts_result(contents, environments[0], found))
            return
        changed = read_table(session, csv_in) if csv_in else 0
        person = asker(work) if ask else None
        mapped, written = map_package(session, contents, environments, values or (), accept, only or (), person)
        if csv_out:
            write_table(session, csv_out)
        file = session.workspace.crosswalk.name
        odd = doubts(session, contents, [one for rows in mapped.values() for one in rows])
        work.show(map_result(contents, mapped, file, changed + written, odd))
