"""Checks: small rules over the portable form and an index of the target; no I/O."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from amphora.core.checks import completeness, integrity, needs, portability, safety, target
from amphora.core.checks.context import CheckContext, Rule, Todo
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Finding, Level
from amphora.core.values.pace import uncollected

FAMILIES = (integrity, completeness, needs, portability, target, safety)
RULES: dict[str, Rule] = {rule.name: rule for family in FAMILIES for rule in family.RULES}
"""Every rule by its name, in the order in which findings are told."""

_WEIGHT = {Level.ERROR: 0, Level.WARNING: 1, Level.NOTE: 2}


@dataclass(frozen=True)
class Waiver:
    """A finding that somebody has silenced, with the reason: of one rule, at one item (all, if empty), at one
    place in it (all, if empty). Where a finding tells of a value, `value` is that one's mark: another value at the
    same place is found again."""

    rule: str
    item: Key
    place: str
    reason: str
    value: str = ""

    def covers(self, finding: Finding) -> bool:
        """Whether a finding is meant."""
        is_item = self.item in ("", finding.item)
        is_value = not finding.mark or self.value == finding.mark
        return self.rule == finding.rule and is_item and is_value and self.place in ("", finding.place)


def check(
    context: CheckContext, levels: Mapping[str, str] | None = None, waivers: Sequence[Waiver] = ()
) -> list[Finding]:
    """All findings, the heaviest first, those for one thing to do together. `levels` sets rules to another
    level; what a waiver covers is left out."""
    # Rules make many small values that live until the end: collecting in between finds nothing.
    with uncollected():
        found = [_levelled(f, levels or {}) for rule in RULES.values() for f in rule.find(context)]
    # Silenced after their levels are set, and never counted by the gate, which asks needs and steps.
    kept = [finding for finding in found if not any(waiver.covers(finding) for waiver in waivers)]
    return sorted(kept, key=lambda finding: _WEIGHT[finding.level])


def todo_of(finding: Finding) -> Todo:
    """What a finding asks for."""
    return RULES[finding.rule].todo


def _levelled(finding: Finding, levels: Mapping[str, str]) -> Finding:
    level = levels.get(finding.rule)
    return finding if level is None else replace(finding, level=Level(level))


__all__ = ["RULES", "CheckContext", "Rule", "Todo", "Waiver", "check", "todo_of"]
