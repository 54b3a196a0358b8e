"""`crosswalk.yaml`: read with exact places, rows added without touching what people wrote."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from amphora.core.crosswalk import SECTIONS, Crosswalk
from amphora.core.errors import UsageFault
from amphora.core.model import Json
from amphora.files.yaml_text import dump_yaml, load_yaml, plain, write_text

_HEADER = """\
# The crosswalk: what each need is called in each environment. "?" is open, "?VALUE" a guess;
# a value under any: holds wherever no other stands.
"""


@dataclass(frozen=True)
class Cell:
    """One cell to write. `comment` goes beside a row that is new."""

    section: str
    row: str
    column: str
    value: Json
    comment: str = ""


def read_crosswalk(path: Path) -> Crosswalk:
    """The table of a file, empty where there is none; UsageFault with line and column."""
    document = load_yaml(path) if path.exists() else None
    rows: dict[str, dict[str, dict[str, Json]]] = {}
    for section, table in (_mapping(document, path, "the file") if document is not None else {}).items():
        if section not in SECTIONS.values():
            raise _fault(path, document, section, f"{section!r} is no section of a crosswalk")
        rows[section] = {}
        for row, cells in (_mapping(table, path, section, document) if table is not None else {}).items():
            columns = _mapping(cells, path, f"{section}: {row}", table, row) if cells is not None else {}
            rows[section][str(row)] = {
                str(column): plain(value, path, _place(columns, column)) for column, value in columns.items()
            }
    return Crosswalk(rows)


def write_cells(path: Path, cells: Iterable[Cell]) -> list[Cell]:
    """Writes cells into the file, making rows and sections as needed; returns those that changed."""
    from ruamel.yaml.comments import CommentedMap
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    read_crosswalk(path)
    document = (load_yaml(path) if path.exists() else None) or CommentedMap()
    is_new = not document
    changed = []
    for cell in cells:
        section = document.get(cell.section)
        if section is None:
            section = document[cell.section] = CommentedMap()
        row = section.get(cell.row)
        if row is None:
            row = section[cell.row] = CommentedMap()
            if cell.comment:
                section.yaml_add_eol_comment(cell.comment, cell.row, column=32)
        if cell.column in row and row[cell.column] == cell.value and type(row[cell.column]) is not bool:
            continue
        value = cell.value
        is_marked = isinstance(value, str) and value.startswith("?")
        row[cell.column] = DoubleQuotedScalarString(value) if is_marked else value
        changed.append(cell)
    if changed:
        write_text(path, (_HEADER if is_new and not path.exists() else "") + dump_yaml(document))
    return changed


def _mapping(value: Any, path: Path, name: str, parent: Any = None, key: Any = None) -> Any:
    if isinstance(value, dict):
        return value
    place = _place(parent, key if key is not None else name)
    raise UsageFault(
        f"{path}: {name} has to be a table of names and values.",
        subject=str(path),
        place=place,
        next_step="Write one `environment: value` a line under it.",
    )


def _fault(path: Path, parent: Any, key: Any, reason: str) -> UsageFault:
    known = ", ".join(SECTIONS.values())
    return UsageFault(
        f"{path}: {reason}.", subject=str(path), place=_place(parent, key), next_step=f"The sections are: {known}."
    )


def _place(parent: Any, key: Any) -> str:
    try:
        line, column = parent.lc.key(key)
    except (AttributeError, KeyError, TypeError):
        return "line 1, column 1"
    return f"line {line + 1}, column {column + 1}"
