"""JSON Schemas of the files that people edit, laid beside them for their editors."""

from __future__ import annotations

from pathlib import Path

SCHEMAS = ".schemas"
"""The folder of a workspace in which they lie."""

EDITED = ("amphora", "crosswalk", "docket")


def write_schemas(folder: Path) -> None:
    """Lays the schemas of this version into a workspace."""
    from importlib.resources import files

    (folder / SCHEMAS).mkdir(exist_ok=True)
    for name in EDITED:
        text = (files("amphora") / "schemas" / f"{name}.schema.json").read_text(encoding="utf-8")
        (folder / SCHEMAS / f"{name}.schema.json").write_text(text, encoding="utf-8")


def first_line(path: Path, name: str) -> str:
    """The line at the head of a YAML file that tells editors its schema; empty where no schema lies beside it."""
    here = Path(SCHEMAS) / f"{name}.schema.json"
    return f"# yaml-language-server: $schema={here.as_posix()}\n" if (path.parent / here).is_file() else ""
