"""Names of members in a package: `=HH` where a path has `%HH`; overlong or colliding segments hashed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from amphora.core.keys import Key, kind_of, path_of

LONGEST_SEGMENT = 100


def item_members(keys: Iterable[Key]) -> dict[Key, str]:
    """Each key's path below `data/items/` (the same below `data/layout/`), without case collisions."""
    paths = {key: [kind_of(key), *path_of(key).replace("%", "=").split("/")] for key in sorted(keys)}
    spellings: dict[str, set[str]] = {}
    for path in paths.values():
        place = ""
        for depth, segment in enumerate(path):
            place += "/" + _as_file(segment, depth, path).lower()
            spellings.setdefault(place, set()).add(segment)
    members = {}
    for key, path in paths.items():
        place, safe = "", []
        for depth, segment in enumerate(path):
            place += "/" + _as_file(segment, depth, path).lower()
            safe.append(_safe(segment, depth, path, len(spellings[place]) > 1))
        members[key] = "/".join(safe) + ".json"
    return members


def _as_file(segment: str, depth: int, path: list[str]) -> str:
    return segment if depth < len(path) - 1 else segment + ".json"


def _safe(segment: str, depth: int, path: list[str], is_colliding: bool) -> str:
    is_folder_like_file = depth < len(path) - 1 and segment.lower().endswith(".json")
    if not (is_colliding or is_folder_like_file or len(segment) > LONGEST_SEGMENT):
        return segment
    return f"{segment[:40]}=-{hashlib.sha256(segment.encode()).hexdigest()[:16]}"
