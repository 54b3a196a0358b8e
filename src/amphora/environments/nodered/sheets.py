"""The kind sheets for Node-RED."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from amphora.core.form.kinds import KindSheet, parse_sheet

KINDS = ("app", "flow", "integration")


@cache
def nodered_sheets() -> dict[str, KindSheet]:
    """The kinds that a runtime's flow file is seen as."""
    folder = files("amphora.environments.nodered") / "kinds"
    return {kind: parse_sheet((folder / f"{kind}.toml").read_text(encoding="utf-8"), kind) for kind in KINDS}
