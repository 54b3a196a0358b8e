"""to-folder and from-folder."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import DebugFlag, FolderOption, JsonFlag, working


def to_folder(
    package: Annotated[str, typer.Argument(help="A package's name, NAME-VERSION, or file.")],
    folder: Annotated[Path, typer.Argument(help="Where to lay it out; new, empty, or used for this before.")],
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Lay a package out as a plain folder for version control.

    \b
    Examples:
      amphora to-folder olive-intake intake
      amphora to-folder olive-intake-1.2.0 /work/halcyon/intake
    """
    from amphora.core.form.copies import taken_apart
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.files.folder import write_folder
    from amphora.render.folders import to_folder_result

    with working(json, workspace) as work:
        contents = opened_package(work, package)
        base, copy = taken_apart(contents.name)
        if copy:
            words = f"{contents.name} is a copy of {base}: what is laid out is that."
            raise UsageFault(words, subject=package, next_step=to_type("to-folder", base, str(folder)))
        work.show(to_folder_result(contents, folder, write_folder(contents, folder)))


def from_folder(
    folder: Annotated[str, typer.Argument(help="A folder, or git:REPO@REV:FOLDER.")],
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Write the package there.")] = None,
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Make a package of a folder that one was laid out in.

    \b
    Examples:
      amphora from-folder intake
      amphora from-folder git:/work/halcyon@v1.2.0:intake --out intake.amphora
    """
    from amphora.files.sources import open_folder
    from amphora.files.store import Store
    from amphora.render.folders import from_folder_result

    with working(json, workspace) as work:
        contents = open_folder(folder)
        store = Store(out.parent if out else work.session.workspace.packages)
        path, digest = store.put(contents, out)
        work.show(from_folder_result(contents, path, digest))
