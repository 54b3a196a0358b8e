"""Changes as JSON Patch (RFC 6902): what makes one form the other."""

from __future__ import annotations

from collections.abc import Iterator

from amphora.core.values.canon import same
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, write_pointer

Operation = dict[str, Json]


def patch_of(left: Json, right: Json) -> list[Operation]:
    """The operations that turn the left form into the right one, to be applied in this order."""
    return list(_operations(left, right, ()))


def _operations(left: Json, right: Json, at: Pointer) -> Iterator[Operation]:
    # 1 and 1.0 are equal as JSON but not the same bytes: whoever applies the patch shall get the bytes of the right
    # side. So what holds others is looked into, however equal it seems.
    is_single = not isinstance(left, dict | list)
    if is_single and type(left) is type(right) and same(left, right):
        return
    if isinstance(left, dict) and isinstance(right, dict):
        # Removals first: a later "add" at a name must not meet what is to go.
        for name in sorted(left.keys() - right.keys()):
            yield {"op": "remove", "path": write_pointer((*at, name))}
        for name, part in right.items():
            if name in left:
                yield from _operations(left[name], part, (*at, name))
            else:
                yield {"op": "add", "path": write_pointer((*at, name)), "value": part}
    elif isinstance(left, list) and isinstance(right, list):
        common = min(len(left), len(right))
        for position in range(common):
            yield from _operations(left[position], right[position], (*at, str(position)))
        # From the end: each removal would shift the positions of those behind it (RFC 6902, section 4.2).
        for position in range(len(left) - 1, common - 1, -1):
            yield {"op": "remove", "path": write_pointer((*at, str(position)))}
        for part in right[common:]:
            # "-" is the place after the last element (RFC 6901, section 4), so that no position has to be counted.
            yield {"op": "add", "path": write_pointer((*at, "-")), "value": part}
    else:
        yield {"op": "replace", "path": write_pointer(at), "value": right}
