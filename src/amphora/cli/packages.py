"""Packages as they are named on the command line."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from amphora.cli.work import Work

if TYPE_CHECKING:
    from amphora.core.values.model import Contents


def opened_package(work: Work, name: str, copy: str = "") -> Contents:
    """Reads and verifies the package that a name means, as a `copy` where one is asked for, and says so where it is
    not one of the workspace; files and folders need no workspace."""
    from amphora.core.form.copies import copied
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.near import near
    from amphora.core.values.next_step import to_type
    from amphora.files.sources import is_elsewhere, open_package

    if Path(name).is_file():
        # Loaded for a file only: to know a docket takes modules that nobody needs for a name.
        from amphora.files.docket_file import is_docket

        if is_docket(Path(name)):
            raise UsageFault(f"{name} is a docket, and not a package.", subject=name, next_step=to_type("peek", name))
    # Asked for all the same where only a workspace could hold it: then it is told that there is none.
    is_known = work.has_workspace or not is_elsewhere(name)
    packages = work.session.workspace.packages if is_known else None
    try:
        contents = open_package(name, packages)
    except UsageFault as error:
        places = (*work.session.workspace.environments, *work.session.workspace.groups) if work.has_workspace else ()
        hints = [f"near: {one}, an environment or a group" for one in near(name, places, alike=0.7)]
        if name in places:
            hints = [f"{name!r} is an environment or a group; the package comes before it"]
        if not hints:
            raise
        details = [*hints, *error.details]
        raise UsageFault(error.message, subject=name, details=details, next_step=to_type("env", "list")) from error
    if contents.file:
        work.tell([f"Reading {contents.title} from {contents.file}"])
    contents = work.session.as_known(contents) if work.has_workspace else contents
    return copied(contents, copy) if copy else contents
