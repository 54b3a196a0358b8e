"""What a workspace says of the rules of `check`: findings that are silenced, and levels."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.model import Level
from amphora.files.workspace_faults import fault_at

if TYPE_CHECKING:
    from amphora.core.checks import Waiver


def silenced_of(path: Path, text: str, row: Any) -> Waiver:
    """One finding that somebody silenced, with the reason."""
    from amphora.core.checks import RULES, Waiver

    if not isinstance(row, dict) or not all(isinstance(row.get(n), str) for n in ("rule", "item", "reason")):
        raise fault_at(path, text, (), "silenced", "[[silenced]] needs rule, item and reason (and place, and value)")
    if row["rule"] not in RULES:
        raise fault_at(path, text, (), "silenced", f"there is no rule {row['rule']!r} (amphora check --rules)")
    return Waiver(row["rule"], row["item"], row.get("place", ""), row["reason"], str(row.get("value", "")))


def levels_of(path: Path, text: str, table: Any) -> dict[str, str]:
    """The levels to which rules are set."""
    from amphora.core.checks import RULES

    for name, level in table.items():
        # A misspelt rule would leave the real one at its level, without anybody noticing.
        if name not in RULES:
            raise fault_at(path, text, ("rules",), name, f"there is no rule {name!r} (amphora check --rules)")
        if level not in tuple(Level):
            raise fault_at(path, text, ("rules",), name, "a rule is set to error, warning or note")
    return dict(table)
