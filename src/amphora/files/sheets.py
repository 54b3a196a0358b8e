"""Kind sheets that lie in files, which people edit."""

from __future__ import annotations

from importlib.resources.abc import Traversable
from pathlib import Path

from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.values.errors import SheetFault
from amphora.core.values.next_step import advice
from amphora.files.typed import TYPED


def read_sheet(path: Path) -> KindSheet:
    """The kind sheet in a file; SheetFault names everything that is wrong with it, or that it can't be read."""
    return parse_sheet(sheet_text(path, str(path)), str(path))


def sheet_text(path: Traversable, name: str) -> str:
    """The text of a sheet's file, whatever kind of sheet; SheetFault where it can't be read."""
    try:
        return path.read_text(encoding=TYPED)
    except (OSError, UnicodeDecodeError) as error:
        why = str(error.strerror) if isinstance(error, OSError) else "it is not UTF-8"
        raise SheetFault(
            f"The sheet {name} can't be read: {why}.",
            subject=name,
            next_step=advice("Look at the file and its rights."),
        ) from error
