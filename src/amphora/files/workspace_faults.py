"""What is wrong in `amphora.toml`, told with its line and column."""

from __future__ import annotations

import re
from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice


def secret_fault(path: Path, text: str, within: tuple[str, ...], name: str) -> UsageFault:
    """The refusal of a secret that stands in the file itself."""
    fault = fault_at(path, text, within, name, f"a secret stands in clear at {name!r}")
    fault.next_step = advice(
        f'Take it out, write sign_in = "env:SOME_NAME" there, and set SOME_NAME in your shell;'
        f" change the secret, as this file may have been seen ({path.name} is not a safe place)."
    )
    return fault


def fault_at(path: Path, text: str, within: tuple[str, ...], name: str, reason: str) -> UsageFault:
    """The refusal of what stands at a name within a table, with line and column."""
    line, column = _locate(text, within, name)
    return UsageFault(
        f"{path}: {reason}.",
        subject=str(path),
        place=f"line {line}, column {column}",
        next_step=advice("Mend that line and try again."),
    )


def _locate(text: str, within: tuple[str, ...], name: str) -> tuple[int, int]:
    """Line and column of a member in a TOML text, as well as lines can tell."""
    # By lines and not by a second parser: it only has to be near enough for an eye.
    header = ".".join(within)
    is_inside = not within
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if stripped.startswith("["):
            table = stripped.strip("[] ").replace('"', "")
            is_inside = table == header or not within
            if table in (name, f"{header}.{name}"):
                return number, 1
            if table == header and within and within[-1] == name:
                return number, 1
        elif is_inside and re.match(rf'"?{re.escape(name)}"?\s*=', stripped):
            return number, line.index(stripped[0]) + 1
    return 1, 1
