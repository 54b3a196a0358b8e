"""The crosswalk on the disk: `crosswalk.yaml`, one environment's column apart in `crosswalk/ENV.yaml`, and the
whole as CSV. Rows are added without touching what people wrote."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from amphora.core.form.settings import parse_setting, type_of
from amphora.core.needs.crosswalk import ANY, MADE_FROM, OPEN, SECTIONS, Crosswalk
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import as_key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.core.values.visible import for_spreadsheet, from_spreadsheet
from amphora.core.values.words import counted
from amphora.files.schemas import first_line
from amphora.files.typed import TYPED
from amphora.files.yaml_text import dump_yaml, load_yaml, plain, write_text

_HEADER = """\
# The crosswalk: what each need is called in each environment. "?" is open, "?VALUE" a guess;
# a value under any: holds wherever no other stands.
"""
SECRETS = SECTIONS["secret"]
_KEPT = re.compile(r"(?:env|keyring):\S+")
"""Where a secret may be kept: never in the file."""
_KEYS = advice("Write keys as amphora survey shows them: KIND:FOLDER/NAME.")


@dataclass(frozen=True)
class Cell:
    """One cell to write. `comment` goes beside a row that is new."""

    section: str
    row: str
    column: str
    value: Json
    comment: str = ""


def read_crosswalk(path: Path) -> Crosswalk:
    """The table of a file and of the columns apart beside it, empty where there are none; UsageFault with
    line and column."""
    files = [path, *sorted(_apart(path).glob("*.yaml"))]
    return _read(path, tuple((file, _text(file)) for file in files))


def _text(file: Path) -> str | None:
    try:
        # None is no file, and empty is one: somebody began it.
        return file.read_text(encoding=TYPED) if file.exists() else None
    except UnicodeDecodeError as error:
        raise UsageFault(
            f"{file} is not YAML: {error}.", subject=str(file), next_step=advice("Save it as UTF-8 again.")
        ) from error


# One command reads it several times, with a reader that keeps every comment: a tenth of a second for some hundred
# rows. What stands in the files is part of the question, so that nobody is told what stood there before.
@lru_cache(maxsize=4)
def _read(path: Path, texts: tuple[tuple[Path, str | None], ...]) -> Crosswalk:
    rows: dict[str, dict[str, dict[str, Json]]] = {}
    for section, row, columns, table in _rows(path, texts[0][1]):
        cells = _mapping(columns, path, f"{section}: {row}", table, row) if columns is not None else {}
        mine = rows.setdefault(section, {})[row] = {}
        for column, value in cells.items():
            mine[str(column)] = plain(value, path, _place(cells, column))
            _refuse_read(section, row, mine[str(column)], path, _place(cells, column))
    split: list[tuple[str, str]] = []
    for file, text in texts[1:]:
        for section, row, value, table in _rows(file, text):
            cells = rows.setdefault(section, {}).setdefault(row, {})
            mine = plain(value, file, _place(table, row))
            _refuse_read(section, row, mine, file, _place(table, row))
            # Neither is dropped silently: the file apart wins, as the more particular one, and `map` tells of the
            # other.
            if file.stem in cells and cells[file.stem] != mine:
                words = f"{path.name} says {cells[file.stem]!r} for {file.stem}, {file.name} says {mine!r}"
                split.append((f"{section}: {row}", words))
            cells[file.stem] = mine
    return Crosswalk(rows, tuple(split))


def write_cells(path: Path, cells: Iterable[Cell]) -> list[Cell]:
    """Writes cells into the file (into that of its environment alone, where there is one), making rows and
    sections as needed; returns those that changed."""
    # Read whole before a byte is written: what is wrong in it is told, and not written over.
    read_crosswalk(path)
    cells = list(cells)
    for cell in cells:
        refuse_cell(cell, path)
    by_file: dict[Path, list[Cell]] = {}
    for cell in cells:
        apart = _apart(path) / f"{cell.column}.yaml"
        by_file.setdefault(apart if apart.exists() else path, []).append(cell)
    return [cell for file, some in by_file.items() for cell in _write_file(file, some, is_apart=file != path)]


def rename_column(path: Path, old: str, name: str) -> bool:
    """Gives an environment's column another name, in the file and of the file apart; whether there was one. What
    people wrote around it stays."""
    found = False
    if path.exists():
        read_crosswalk(path)
        document = load_yaml(path)
        for section in (document or {}).values():
            for row in (section or {}).values():
                if isinstance(row, dict) and old in row:
                    at = list(row).index(old)
                    value = row.pop(old)
                    row.insert(at, name, value)  # type: ignore[attr-defined]
                    found = True
        if found:
            write_text(path, dump_yaml(document))
    apart = _apart(path) / f"{old}.yaml"
    if apart.exists():
        apart.rename(apart.with_name(f"{name}.yaml"))
        found = True
    return found


def refuse_cell(cell: Cell, path: Path) -> None:
    """UsageFault for a cell that would put a secret itself into the file (it is not quoted either), or no key where
    one has to stand."""
    if wrong := _no_key(cell.section, cell.row, cell.value):
        raise UsageFault(f"{wrong!r} is no key of an item; nothing was written.", subject=cell.row, next_step=_KEYS)
    if cell.section == SECRETS and not _is_kept(cell.value):
        raise UsageFault(
            f"{cell.row} is a secret, and would stand in clear in {path.name}; nothing was written.",
            subject=cell.row,
            next_step=advice(
                f"Say where it is kept: {cell.row}=env:NAME, with the variable NAME set, or keyring:NAME."
            ),
        )


def _no_key(section: str, row: str, value: Json) -> Json:
    """What stands under items and is no key: a row that nothing can match would be taken for one that is heeded."""
    if section != SECTIONS["item"]:
        return None
    is_said = value not in (None, "") and not (isinstance(value, str) and value.startswith(OPEN))
    return next((text for text in (row, *([value] if is_said else [])) if not as_key(str(text))), None)


def _is_kept(value: Json) -> bool:
    """Whether what stands for a secret says where it is kept, or nothing."""
    return value is None or (isinstance(value, str) and (value in ("", "?") or bool(_KEPT.fullmatch(value))))


def _refuse_read(section: str, row: str, value: Json, path: Path, place: str) -> None:
    """UsageFault for an item's cell that is no key, and for a secret that stands in the file itself. That is not
    quoted: the message may end up anywhere."""
    if wrong := _no_key(section, row, value):
        raise UsageFault(
            f"{path}: {wrong!r} under items is no key.", subject=str(path), place=place or None, next_step=_KEYS
        )
    # Before anybody reads the table: from here on a value may end up in a message.
    if section == SECRETS and not _is_kept(value):
        raise UsageFault(
            f"{path}: a secret stands in clear under secrets.",
            subject=str(path),
            place=place or None,
            next_step=advice(
                "Write env:NAME there and set the variable NAME, or keyring:NAME; change the secret, as this file may"
                " have been seen."
            ),
        )


def csv_text(crosswalk: Crosswalk, environments: Iterable[str]) -> str:
    """The table as CSV (RFC 4180): section, name, one column for each environment and for `any`."""
    columns = [*environments, *_extra_columns(crosswalk, environments), ANY, MADE_FROM]
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["section", "name", *columns])
    for section in SECTIONS.values():
        for row, cells in crosswalk.rows.get(section, {}).items():
            writer.writerow([section, _to_csv(row), *(_to_csv(cells.get(column)) for column in columns)])
    return out.getvalue()


def csv_cells(text: str, crosswalk: Crosswalk, name: str) -> list[Cell]:
    """The cells of a CSV table that differ from the crosswalk; UsageFault with the line for what is wrong.
    An empty cell says nothing. A value keeps the type that its row has."""
    # Spreadsheets of many countries write semicolons, for the comma stands in their numbers.
    first = (text.splitlines() or [""])[0]
    # Line ends as they are: the library knows those of every system, if nobody has changed them before.
    lines = csv.reader(io.StringIO(text, newline=""), delimiter=";" if first.count(";") > first.count(",") else ",")
    try:
        table = list(lines)
    except csv.Error as error:
        raise _csv_fault(name, lines.line_num, f"it is no CSV: {error}") from error
    # A doubled column would make the later one win without a word.
    if not table or table[0][:2] != ["section", "name"] or len(set(table[0])) != len(table[0]):
        raise _csv_fault(name, 1, "the first line has to name the columns: section, name, environments")
    columns = table[0][2:]
    found = []
    for number, line in enumerate(table[1:], 2):
        if not any(line):
            continue
        if len(line) != len(table[0]):
            raise _csv_fault(name, number, f"it has {counted(len(line), 'cell')} and not {len(table[0])}")
        section, row = line[0], from_spreadsheet(line[1])
        if section not in SECTIONS.values() or not row:
            raise _csv_fault(name, number, f"{section!r} is no section of a crosswalk")
        known = crosswalk.rows.get(section, {}).get(row, {})
        for column, written in zip(columns, line[2:], strict=True):
            # Compared as written, so that a table that comes back untouched changes nothing, whatever a spreadsheet
            # thinks of types.
            if written and written != _to_csv(known.get(column)):
                found.append(Cell(section, row, column, _valued(from_spreadsheet(written), known, name, number)))
    return found


def _valued(text: str, known: Mapping[str, Json], name: str, number: int) -> Json:
    if text.startswith("?"):
        return text
    try:
        return parse_setting(text, type_of(known.values()))
    except ValueError as error:
        raise _csv_fault(name, number, f"{text!r} is not of the type that the row has") from error


def _to_csv(value: Json) -> str:
    if value is None:
        return ""
    text = {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)
    return for_spreadsheet(text) if isinstance(value, str) else text


def _csv_fault(name: str, number: int, reason: str) -> UsageFault:
    return UsageFault(f"{name}: {reason}.", subject=name, place=f"line {number}", next_step=advice("Mend that line."))


def _extra_columns(crosswalk: Crosswalk, environments: Iterable[str]) -> list[str]:
    known = {ANY, MADE_FROM, *environments}
    cells = (cells for rows in crosswalk.rows.values() for cells in rows.values())
    return sorted({column for row in cells for column in row} - known)


def _apart(path: Path) -> Path:
    """Where single environments' columns lie."""
    return path.with_suffix("")


def _rows(path: Path, text: str | None) -> Iterable[tuple[str, str, Any, Any]]:
    """The rows of one file: section, name, what stands there, and the table that it stands in."""
    document = None if text is None else load_yaml(path, text)
    for section, table in (_mapping(document, path, "the file") if document is not None else {}).items():
        if section not in SECTIONS.values():
            raise _fault(path, document, section, f"{section!r} is no section of a crosswalk")
        for row, value in (_mapping(table, path, section, document) if table is not None else {}).items():
            yield section, str(row), value, table


def _write_file(path: Path, cells: Iterable[Cell], is_apart: bool) -> list[Cell]:
    from ruamel.yaml.comments import CommentedMap
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    document = (load_yaml(path) if path.exists() else None) or CommentedMap()
    is_new = not document
    changed = []
    for cell in cells:
        section = document.get(cell.section)
        if section is None:
            section = document[cell.section] = CommentedMap()
        row, name = (section, cell.row) if is_apart else (section.get(cell.row), cell.column)
        if row is None:
            row = section[cell.row] = CommentedMap()
            if cell.comment:
                # Beside the row and not above it: it goes along when somebody moves the row.
                section.yaml_add_eol_comment(cell.comment, cell.row, column=32)
        # In Python True == 1: a yes that becomes a 1 is a change.
        if name in row and row[name] == cell.value and type(row[name]) is not bool:
            continue
        value = cell.value
        is_marked = isinstance(value, str) and value.startswith("?")
        # A question mark at the beginning of a bare word means something else in YAML (1.2, section 7.3.3).
        row[name] = DoubleQuotedScalarString(value) if is_marked else value
        changed.append(cell)
    if changed:
        head = first_line(path, "crosswalk") + _HEADER if is_new and not path.exists() else ""
        write_text(path, head + dump_yaml(document))
    return changed


def _mapping(value: Any, path: Path, name: str, parent: Any = None, key: Any = None) -> Any:
    if isinstance(value, dict):
        return value
    place = _place(parent, key if key is not None else name)
    raise UsageFault(
        f"{path}: {name} has to be a table of names and values.",
        subject=str(path),
        place=place,
        next_step=advice("Write one `environment: value` a line under it."),
    )


def _fault(path: Path, parent: Any, key: Any, reason: str) -> UsageFault:
    known = ", ".join(SECTIONS.values())
    return UsageFault(
        f"{path}: {reason}.",
        subject=str(path),
        place=_place(parent, key),
        next_step=advice(f"The sections are: {known}."),
    )


def _place(parent: Any, key: Any) -> str:
    try:
        line, column = parent.lc.key(key)
    except (AttributeError, KeyError, TypeError):
        return "line 1, column 1"
    return f"line {line + 1}, column {column + 1}"
