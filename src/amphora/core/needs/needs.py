"""Needs: what items use and do not carry."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from amphora.core.values.keys import Key
from amphora.core.values.model import Item, Need


def types_of(needs: Iterable[Need]) -> dict[Key, str]:
    """The native types that needs carry, for another round of `needs_of`."""
    return {need.key: need.type for need in needs}


def needs_of(items: Mapping[Key, Item], types: Mapping[Key, str] | None = None) -> Iterable[Need]:
    """What items use and do not carry, sorted: connections and the like, and items that stay at home.
    `types` gives the native type of connections and settings, where it is known."""
    users: dict[Key, dict[Key, None]] = {}
    for key, item in sorted(items.items()):
        for _, token in item.tokens:
            # By the items that travel, not by those that exist: what stays at home has to be there already.
            if (token.is_need or token.is_item) and token.key not in items:
                users.setdefault(token.key, {})[key] = None
    for need, used_by in sorted(users.items()):
        yield Need(need, tuple(used_by), (types or {}).get(need, ""))
