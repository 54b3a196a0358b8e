"""What the rules look at: a package's contents and, if there is one, an index of the target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from amphora.core.crosswalk import Mapped
from amphora.core.keys import Key
from amphora.core.kinds import KindSheet
from amphora.core.model import Contents, Finding, Level, Listed


@dataclass(frozen=True)
class TargetIndex:
    """What of a target the rules need: its items by (package) key, the parts of those that the package
    refers to, the kinds and features on offer, what the identity may do, and the needs resolved.

    `features` is None where the environment doesn't tell. `parts` holds portable part ids.
    """

    name: str
    account: str
    rows: Mapping[Key, Listed]
    parts: Mapping[Key, frozenset[str]]
    sheets: Mapping[str, KindSheet]
    features: frozenset[str] | None
    permissions: frozenset[str]
    mapped: tuple[Mapped, ...]
    doubtful: tuple[tuple[Key, Listed], ...] = ()


@dataclass(frozen=True)
class CheckContext:
    """Everything for one run of the rules, for one target or none."""

    contents: Contents
    sheets: Mapping[str, KindSheet]
    target: TargetIndex | None = None
    secrets_in_clear: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)

    def finding(
        self, rule: str, level: Level, message: str, *, item: Key = "", place: str = "", next_step: str = ""
    ) -> Finding:
        """A finding for this target."""
        return Finding(rule, level, message, item, place, next_step, self.target.name if self.target else "")

    @property
    def retry(self) -> str:
        """How to export again what the package holds: the items that no other item in it uses."""
        used = {key for item in self.contents.items.values() for key in item.uses()}
        roots = [key for key in sorted(self.contents.items) if key not in used] or sorted(self.contents.items)
        return f"amphora export {self.contents.source} {' '.join(roots)} --as {self.contents.name}"
