"""Checks: small rules over the portable form and an index of the target; no I/O."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from amphora.core.checks.completeness import item_missing, part_missing, unbound_id, undeclared_reference
from amphora.core.checks.context import CheckContext
from amphora.core.checks.needs import need_open, secret_to_enter
from amphora.core.checks.portability import secret_in_clear
from amphora.core.checks.target import feature_missing, kind_unknown, name_taken, permission_missing
from amphora.core.model import Finding, Level

Rule = Callable[[CheckContext], Iterable[Finding]]

RULES: dict[str, Rule] = {
    "item-missing": item_missing,
    "part-missing": part_missing,
    "unbound-id": unbound_id,
    "undeclared-reference": undeclared_reference,
    "need-open": need_open,
    "secret-to-enter": secret_to_enter,
    "secret-in-clear": secret_in_clear,
    "kind-unknown": kind_unknown,
    "feature-missing": feature_missing,
    "permission-missing": permission_missing,
    "name-taken": name_taken,
}
"""Every rule by its name, in the order in which findings are told."""

_WEIGHT = {Level.ERROR: 0, Level.WARNING: 1, Level.NOTE: 2}


def check(context: CheckContext) -> list[Finding]:
    """All findings, the heaviest first."""
    found = [finding for rule in RULES.values() for finding in rule(context)]
    return sorted(found, key=lambda finding: _WEIGHT[finding.level])


__all__ = ["RULES", "CheckContext", "check"]
