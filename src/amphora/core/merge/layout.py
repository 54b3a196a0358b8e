"""Layout merged three ways: what was moved at the source goes over, what was moved in the target only stays.

A layout is a sparse tree of the values at layout places (`core.form.portable`), so that two of them are compared
leaf by leaf. There is no clash in it: where both sides moved one thing, the package's place counts, as it does for
whatever nobody has to decide about.
"""

from __future__ import annotations

from amphora.core.form.places import Walk
from amphora.core.values.canon import same
from amphora.core.values.model import Json


def to_lay(package: Json, base: Json, walk: Walk) -> Json:
    """The part of a package's layout that is not as it was laid last time; all of it where nobody remembers. `walk`
    is where it stands in the kind sheet."""
    if base is None or not isinstance(package, dict) or not isinstance(base, dict):
        return package
    if walk.spot.is_unordered and not walk.spot.named_by:
        # They stand in the order of what they are: where one is another by now, none need be where it was.
        return None if same(package, base) else package
    found: dict[str, Json] = {}
    for name, part in package.items():
        was = base.get(name)
        # An object may be a branch or one leaf: a leaf that differs in part is laid in part, which comes to the same.
        new = to_lay(part, was, walk.step(name)) if isinstance(part, dict) and isinstance(was, dict) else part
        if not same(part, was) and new is not None:
            found[name] = new
    return found or None
