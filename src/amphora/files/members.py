"""Names of members in a package: `=HH` where a path has `%HH`; overlong or colliding segments hashed."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping

from amphora.core.values.keys import Key, kind_of, path_of

LONGEST_SEGMENT = 100


def item_members(keys: Iterable[Key]) -> dict[Key, str]:
    """Each key's path below `data/items/` (the same below `data/layout/`), without case collisions."""
    paths = {key: f"{kind_of(key)}/{path_of(key).replace('%', '=')}" for key in sorted(keys)}
    spellings: dict[str, set[str]] = {}
    folders = {path.rpartition("/")[0] for path in paths.values()}
    for folder in sorted(folders):
        place = ""
        for segment in folder.split("/"):
            place += "/" + segment.lower()
            spellings.setdefault(place, set()).add(segment)
    for path in paths.values():
        spellings.setdefault(f"/{path.lower()}.json", set()).add(path.rpartition("/")[2])
    safe = {folder: _safe_folder(folder, spellings) for folder in folders}
    members = {}
    for key, path in paths.items():
        folder, _, name = path.rpartition("/")
        is_colliding = len(spellings[f"/{path.lower()}.json"]) > 1
        # Both of two that differ in case get a hash, so that which one is told first makes no difference.
        members[key] = f"{safe[folder]}/{_safe(name, is_colliding)}.json"
    return members


def _safe_folder(folder: str, spellings: Mapping[str, set[str]]) -> str:
    place, safe = "", []
    for segment in folder.split("/"):
        place += "/" + segment.lower()
        safe.append(_safe(segment, len(spellings[place]) > 1 or segment.lower().endswith(".json")))
    return "/".join(safe)


def _safe(segment: str, is_colliding: bool) -> str:
    if not (is_colliding or len(segment) > LONGEST_SEGMENT):
        return segment
    # `=` stands for `%` in member names, and `=-` is no hexadecimal: no honest segment looks like this.
    return f"{segment[:40]}=-{hashlib.sha256(segment.encode()).hexdigest()[:16]}"
