"""peek."""

from __future__ import annotations

from typing import Annotated

import typer

from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def peek(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION or file; or a docket.")],
    item: Annotated[str | None, typer.Argument(help="One item of it, to see whole.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """See what is in a package, or in a docket.

    \b
    Examples:
      amphora peek olive-intake
      amphora peek olive-intake "Weigh ticket"
      amphora peek live.docket.yaml
    """
    from pathlib import Path

    from amphora.cli.packages import opened_package
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.engine.compare import named_key
    from amphora.files.docket_file import is_docket
    from amphora.render.peek import peek_item_result, peek_result

    with working(json, workspace) as work:
        if is_docket(Path(package)):
            if item is not None:
                raise UsageFault("A docket is shown whole.", subject=item, next_step=to_type("peek", package))
            from amphora.cli.sign import needed
            from amphora.files.agreements import agreements
            from amphora.files.docket_file import read_docket
            from amphora.render.docket import docket_result

            file = read_docket(Path(package))
            trusted = work.session_anywhere.workspace.keys
            work.show(docket_result(file, agreements(file, trusted), needed(work, file.target)))
            return
        contents = opened_package(work, package)
        if item is None:
            from amphora.files.signatures import judged

            session = work.session_anywhere
            signature = judged(contents, session.workspace.keys).words
            policy = session.workspace.is_signature_required if work.has_workspace else None
            work.show(peek_result(contents, session.likely_target(contents.source), signature, policy))
            return
        key = named_key(contents, item)
        work.show(peek_item_result(contents, key))
