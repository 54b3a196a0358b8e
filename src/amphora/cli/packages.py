"""Packages as they are named on the command line."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from amphora.cli.working import Work

if TYPE_CHECKING:
    from amphora.core.model import Contents


def opened_package(work: Work, name: str) -> Contents:
    """Reads and verifies the package that a name means; a file can be read without a workspace."""
    from amphora.files.package import find_package, read_package

    if Path(name).is_file():
        return read_package(Path(name))
    return read_package(find_package(name, work.session.workspace.packages))
