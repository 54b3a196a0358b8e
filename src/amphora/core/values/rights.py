"""What an account may do: with everything, but for some kinds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from amphora.core.values.keys import Key, kind_of

Lacks = frozenset[tuple[str, str]]
"""What an account may not do with some kinds although it may with others: permission and kind."""


def not_permitted(wanted: Mapping[str, Sequence[Key]], may: frozenset[str], lacks: Lacks) -> dict[str, list[Key]]:
    """The permissions that are missing for what is wanted, with the items that they are missing for."""
    found = {
        # Kinds are looked at only where the permission itself is there: without it all items lack it.
        name: list(keys) if name not in may else [key for key in keys if (name, kind_of(key)) in lacks]
        for name, keys in wanted.items()
    }
    # A permission that no item is named for, reading, is missing all the same.
    return {name: keys for name, keys in found.items() if keys or name not in may}
