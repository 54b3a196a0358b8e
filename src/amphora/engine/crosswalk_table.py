"""The crosswalk as a spreadsheet's table: out, and in again."""

from __future__ import annotations

from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.engine.session import Session
from amphora.files.crosswalk_file import csv_cells, csv_text, write_cells


def write_table(session: Session, path: Path) -> None:
    """Writes the whole crosswalk as CSV, one column for each environment."""
    path.write_text(csv_text(session.crosswalk, session.workspace.environments), encoding="utf-8-sig", newline="")


def read_table(session: Session, path: Path) -> int:
    """Takes over what a CSV table says otherwise; returns how many cells were written."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            text = file.read()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise UsageFault(
            f"{path} can't be read: {reason}.",
            subject=str(path),
            next_step=advice("Name a table that is there, saved as CSV in UTF-8."),
        ) from error
    cells = csv_cells(text, session.crosswalk, str(path))
    columns = {cell.column for cell in cells} - {"any", "made_from"}
    for name in sorted(columns):
        session.workspace.environment(name)
    written = write_cells(session.workspace.crosswalk, cells)
    session.renew_crosswalk()
    return len(written)
