"""check."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import (
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    one_format,
    working,
)
from amphora.core.values.next_step import NOTHING, to_type


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
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Find what would go wrong before anything leaves.

    \b
    Examples:
      amphora check olive-intake
      amphora check olive-intake grove-test grove-live
      amphora check olive-intake grove-live --fix
      amphora check olive-intake grove-live --strict --sarif findings.sarif
      amphora check --rules
    """
    from amphora.core.plan.decisions import Decisions
    from amphora.core.values.errors import UsageFault
    from amphora.engine.check import check_alone
    from amphora.engine.docket import check_package
    from amphora.engine.gate import ImportRequest, agreed, in_the_way
    from amphora.render.check import check_markdown, check_result, rules_result

    one_format(json=json, md=md)
    with working(json, workspace, progress) as work:
        if rules:
            work.show(rules_result(work.session_anywhere.workspace.rule_levels))
            return
        if package is None:
            raise UsageFault("It isn't said which package to check.", next_step=to_type("check", "--help"))
        contents = opened_package(work, package)
        targets = work.session.workspace.targets(environments) if environments else []
        fixed = None
        if fix:
            from amphora.engine.fixes import fix_findings

            fixed = fix_findings(work.session, contents, targets)
            contents = fixed.contents
        findings, reasons = {}, {}
        for target in targets:
            prepared = check_package(work.session, contents, target)
            findings[target] = list(prepared.docket.findings)
            way = in_the_way(work.session, prepared, ImportRequest(Decisions(), yes=True))
            # What somebody has to agree to is asked when it is done; all else is in the way here as well.
            reasons[target] = agreed(way)
        if not targets:
            findings[""] = check_alone(work.session_anywhere, contents)
        if sarif is not None:
            from amphora.render.sarif import sarif_bytes

            sarif.write_bytes(sarif_bytes(contents, findings))
        again = NOTHING if fix else to_type("check", contents.spoken, *targets, "--fix")
        result = check_result(contents, findings, strict, fixed.lines if fixed else (), again, reasons)
        if md:
            work.write(check_markdown(contents, findings))
            raise typer.Exit(result.code)
        work.show(result)
