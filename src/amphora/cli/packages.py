"""Packages as they are named on the command line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.cli.work import Work

if TYPE_CHECKING:
    from amphora.core.values.model import Contents


def opened_package(work: Work, name: str, copy: str = "") -> Contents:
    """Reads and verifies the package that a name means, as a `copy` where one is asked for, and says so where it is
    not one of the workspace; files and folders need no workspace."""
    from amphora.core.form.copies import copied
    from amphora.core.values.errors import UsageFault
    from amphora.files.sources import is_elsewhere, open_package

    # Asked for all the same where only a workspace could hold it: then it is told that there is none.
    is_known = work.has_workspace or not is_elsewhere(name)
    packages = work.session.workspace.packages if is_known else None
    try:
        contents = open_package(name, packages)
    except UsageFault as error:
        workspace = work.session.workspace if work.has_workspace else None
        if workspace is None or name not in (*workspace.environments, *workspace.groups):
            raise
        hint = f"{name!r} is an environment or a group; the package comes before it"
        raise UsageFault(
            error.message, subject=name, details=[hint, *error.details], next_step=error.next_step
        ) from error
    if contents.file:
        work.tell([f"Reading {contents.title} from {contents.file}"])
    contents = work.session.as_known(contents) if work.has_workspace else contents
    return copied(contents, copy) if copy else contents
