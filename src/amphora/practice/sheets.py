"""The kind sheets of the simulated platform, of its newest release and of older ones."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cache
from importlib.resources import files

from amphora.core.form.kinds import KindSheet, parse_sheet


@cache
def practice_sheets() -> dict[str, KindSheet]:
    """All kinds of the newest release, by name."""
    folder = files("amphora.practice") / "kinds"
    sheets = [
        parse_sheet(entry.read_text(encoding="utf-8"), entry.name)
        for entry in folder.iterdir()
        if entry.name.endswith(".toml")
    ]
    return {sheet.kind: sheet for sheet in sorted(sheets, key=lambda sheet: sheet.kind)}


def sheets_of(schemas: Mapping[str, int]) -> dict[str, KindSheet]:
    """The kinds of a release that has some of them in these versions of their shapes."""
    sheets = dict(practice_sheets())
    for kind, schema in schemas.items():
        path = files("amphora.practice") / "kinds" / "older" / f"{kind}-{schema}.toml"
        if path.is_file():
            older = parse_sheet(path.read_text(encoding="utf-8"), path.name)
            # A kind that went by another name then takes the place of what it is called now.
            later = {sheet.kind for sheet in sheets.values() for rule in sheet.conversions if rule.renames == kind}
            sheets = {name: sheet for name, sheet in sheets.items() if name not in later} | {kind: older}
        else:
            sheets[kind] = replace(sheets[kind], schema=schema)
    return dict(sorted(sheets.items()))
