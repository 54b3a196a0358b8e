"""Whether what an item names can be empty for a while: so circles of items are entered, and taken apart."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress

from amphora.core.form.hollow import loosened
from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import reference_values
from amphora.core.plan.states import Image
from amphora.core.values.errors import EnvironmentRefused, Uncertain
from amphora.core.values.pointers import parse_pointer
from amphora.engine.promises import Broken, Kept, Proving
from amphora.engine.specimens import make, remove, update

EMPTIED = "what it names can be empty for a while"

MOST_EMPTIED = 5
"""So many sorts of places are emptied, each on a copy of its own."""


def try_emptied(proving: Proving, kind: str, there: Sequence[Image]) -> None:
    """Empties what copies of the items `there` name, one sort of places after the other; nothing where items of the
    kind never name each other in a circle."""
    if not _meets_itself(kind, proving.opened.description.sheets):
        return
    sheet = proving.opened.description.sheets[kind]
    items = {row.native_id for row in proving.environment.index()}
    seen, untried = set[str](), proving.untried(kind)
    with proving.trying(EMPTIED, kind):
        for image in there:
            for place, value, refer in reference_values(image.newest, sheet):
                # One of each sort of places: the second entry of a list behaves like the first.
                sort = re.sub(r"/[0-9]+(?=/|$)", "/*", place)
                is_one = value in items and not refer.is_required and parse_pointer(place)[0] not in untried
                if not is_one or sort in seen or len(seen) == MOST_EMPTIED:
                    continue
                # Where no copy can be made of this one, another one may do.
                with suppress(EnvironmentRefused):
                    user = make(proving, image, f"naming {len(seen)}")
                    seen.add(sort)
                    _emptied_at(proving, user, value, sort)
        if not seen:
            proving.say(EMPTIED, Kept.UNTOLD, kind, "nothing there names another item")


def _meets_itself(kind: str, sheets: Mapping[str, KindSheet]) -> bool:
    """Whether items of a kind can name each other in a circle, through others if need be."""
    seen, new = set[str](), {kind}
    while new:
        places = [refer for name in new for refer in sheets[name].places.refers if not refer.is_required]
        met = {name.partition("#")[0] for refer in places for name in refer.to}
        if kind in met:
            return True
        seen |= new
        new = met & sheets.keys() - seen
    return False


def _emptied_at(proving: Proving, user: Image, used: str, place: str) -> None:
    sheet = proving.opened.description.sheets[user.kind]
    try:
        loose = loosened(user.newest, {used}, sheet)
        after = update(proving, user, user.states.title, loose, user.revision)
        if used in {id_ for _, id_, _ in reference_values(after.newest, sheet)}:
            raise Broken(f"it still names {used} at {place}, where nothing was to be")
    except (EnvironmentRefused, Uncertain) as error:
        words = 'say hollow = "object" where all of the object has to go, or required = true'
        proving.say(EMPTIED, Kept.ODD, user.kind, f"{place}: {error.message} A circle can't be entered; {words}")
    remove(proving, [user.native_id])
