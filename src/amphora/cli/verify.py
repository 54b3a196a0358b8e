"""verify."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.work import (
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    one_format,
    working,
)


def verify(
    subject: Annotated[str, typer.Argument(metavar="RUN|PACKAGE", help="A run (last for the latest) or a package.")],
    environments: Annotated[
        list[str] | None, typer.Argument(metavar="[ENV|GROUP]...", help="Where, for a package.")
    ] = None,
    junit: Annotated[Path | None, typer.Option(metavar="FILE", help="Write it as JUnit XML, too.")] = None,
    markdown: Annotated[bool, typer.Option("--md", help="As Markdown.")] = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Is the target what was promised, and is nothing else changed?

    \b
    Examples:
      amphora verify last
      amphora verify olive-intake grove-live
      amphora verify olive-intake live-sites --junit verify.xml
    """
    from amphora.engine.proof import prove_run, prove_targets
    from amphora.engine.subject import run_to_verify
    from amphora.render.verify import proof_result, proofs_junit, proofs_markdown, proofs_result

    one_format(json=json, md=markdown)
    with working(json, workspace, progress) as work:
        if environments:
            targets = work.session.workspace.targets(environments)
            proofs = prove_targets(work.session, subject, targets)
        else:
            proofs = [prove_run(work.session, run_to_verify(work.session, subject))]
        if junit:
            junit.write_text(proofs_junit(proofs), encoding="utf-8")
        if markdown:
            work.write(proofs_markdown(proofs))
            raise typer.Exit(0 if all(proof.is_whole for proof in proofs) else 1)
        if len(proofs) == 1:
            work.show(proof_result(proofs[0]))
        else:
            work.show(proofs_result(subject, {proof.environment: proof for proof in proofs}))
