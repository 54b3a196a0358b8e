"""The kind sheets of the simulated platform."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from amphora.core.form.kinds import KindSheet, parse_sheet


@cache
def practice_sheets() -> dict[str, KindSheet]:
    """All kinds of the platform, by name."""
    folder = files("amphora.practice") / "kinds"
    sheets = [
        parse_sheet(entry.read_text(encoding="utf-8"), entry.name)
        for entry in folder.iterdir()
        if entry.name.endswith(".toml")
    ]
    return {sheet.kind: sheet for sheet in sorted(sheets, key=lambda sheet: sheet.kind)}
