"""What a workspace insists on, and what it says of the rules of `check`: findings that are silenced, and levels."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amphora.core.values.model import Level
from amphora.files.workspace_faults import fault_at

if TYPE_CHECKING:
    from amphora.core.checks import Waiver


ROLES = ("build", "test", "live")
"""What an environment is there for, in the order in which things go through them."""

_REQUIRED = ("required", "optional")


def policies_of(path: Path, text: str, policies: Mapping[str, Any]) -> Mapping[str, Any]:
    """The policies, each found to be one: what is only nearly right must not count for nothing."""
    for name, value in policies.items():
        is_one = (
            (name in ("signature", "verified") and value in _REQUIRED)
            or (name == "approvals" and _are_approvals(value))
            or (name == "stay" and isinstance(value, list) and all(isinstance(one, str) for one in value))
        )
        if not is_one:
            known = 'policies are signature and verified = "required" or "optional", stay = [regions whose data stays'
            known += " there] and approvals = {live = 2}: how many others have to agree"
            raise fault_at(path, text, ("policies",), name, known)
    return policies


def _are_approvals(value: object) -> bool:
    if isinstance(value, dict):
        return all(role in ROLES and type(n) is int and 0 <= n <= 99 for role, n in value.items())
    # By type, for in Python True is an int: `approvals = true` says how many?
    return type(value) is int and 0 <= value <= 99


def approvals_of(policies: Mapping[str, Any]) -> dict[str, int]:
    """How many people have to agree to an import, by the role of its target; a bare number is for live ones."""
    value = policies.get("approvals", 0)
    return dict(value) if isinstance(value, dict) else {"live": value} if value else {}


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
