"""Packages as they are named on the command line."""

from __future__ import annotations

from typing import TYPE_CHECKING

from amphora.cli.work import Work

if TYPE_CHECKING:
    from amphora.core.values.model import Contents


def opened_package(work: Work, name: str) -> Contents:
    """Reads and verifies the package that a name means, and says so where it is not one of the workspace; files and
    folders need no workspace."""
    from amphora.core.values.errors import UsageFault
    from amphora.files.sources import is_elsewhere, open_package
    from amphora.files.workspace import FILE

    try:
        packages = work.session.workspace.packages
    except UsageFault as error:
        # A broken workspace is told; none at all is fine for a file.
        if error.subject != FILE or not is_elsewhere(name):
            raise
        packages = None
    contents = open_package(name, packages)
    if contents.file:
        work.tell([f"Reading {contents.title} from {contents.file}"])
    return contents
