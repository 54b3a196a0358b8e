"""verify."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import (
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    working,
)
from amphora.core.values.next_step import to_type


def verify(
    subject: Annotated[str, typer.Argument(metavar="RUN|PACKAGE", help="A run (last for the latest) or a package.")],
    environments: Annotated[
        list[str] | None, typer.Argument(metavar="[ENV|GROUP]...", help="Where, for a package.")
    ] = None,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Is the target what was promised?

    \b
    Examples:
      amphora verify olive-intake grove-live
      amphora verify last
      amphora verify olive-intake live-sites
    """
    from amphora.core.values.errors import NotReady
    from amphora.engine.verify import verify_package, verify_run
    from amphora.render.verify import verifications_result, verify_result

    with working(json, workspace, progress) as work:
        if not environments:
            run = work.session.ledger.journal.run(subject)
            found = verify_run(work.session, run)
            if not found:
                message = f"{run.name} left nothing that could be verified: it is {run.state}."
                raise NotReady(message, subject=run.name, next_step=to_type("history", run.name))
            work.show(verify_result(run.package, run.version, run.environment, found))
            return
        targets = work.session.workspace.targets(environments)
        each = {name: verify_package(work.session, subject, name) for name in targets}
        if len(targets) > 1:
            work.show(verifications_result(subject, each))
            return
        [(name, (version, found))] = each.items()
        work.show(verify_result(subject, version, name, found))
