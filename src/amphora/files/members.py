"""Names of members in a package: `=HH` where a path has `%HH`; overlong or colliding segments hashed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from amphora.core.keys import Key, kind_of, path_of

LONGEST_SEGMENT = 100


def item_members(keys: Iterable[Key]) -> dict[Key, str]:
    """Each key's path below `data/items/` (the same below `data/layout/`), without case collisions."""
    paths = {key: [kind_of(key), *(s.replace("%", "=") for s in path_of(key).split("/"))] for key in sorted(keys)}
    spellings: dict[tuple[str, ...], set[str]] = {}
    for path in paths.values():
        for depth, segment in enumerate(path):
            folder = tuple(part.lower() for part in path[:depth])
            spellings.setdefault((*folder, _as_file(segment, depth, path).lower()), set()).add(segment)
    return {
        key: "/".join(
            _safe(segment, depth, path, len(spellings[_place(path, depth)]) > 1) for depth, segment in enumerate(path)
        )
        + ".json"
        for key, path in paths.items()
    }


def _place(path: list[str], depth: int) -> tuple[str, ...]:
    folder = tuple(part.lower() for part in path[:depth])
    return (*folder, _as_file(path[depth], depth, path).lower())


def _as_file(segment: str, depth: int, path: list[str]) -> str:
    return segment if depth < len(path) - 1 else segment + ".json"


def _safe(segment: str, depth: int, path: list[str], is_colliding: bool) -> str:
    is_folder_like_file = depth < len(path) - 1 and segment.lower().endswith(".json")
    if not (is_colliding or is_folder_like_file or len(segment) > LONGEST_SEGMENT):
        return segment
    return f"{segment[:40]}=-{hashlib.sha256(segment.encode()).hexdigest()[:16]}"
