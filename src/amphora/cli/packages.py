"""Packages as they are named on the command line."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from amphora.cli.work import Work

if TYPE_CHECKING:
    from amphora.core.values.model import Contents


def opened_package(work: Work, name: str) -> Contents:
    """Reads and verifies the package that a name means; files and folders need no workspace."""
    from amphora.files.sources import is_elsewhere, open_package

    return open_package(name, Path() if is_elsewhere(name) else work.session.workspace.packages)
