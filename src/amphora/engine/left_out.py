"""Whether what is left out of a change is gone: members, what stands inside of them, entries of lists."""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import suppress

from amphora.core.form.kinds import KindSheet
from amphora.core.form.settled import settled
from amphora.core.form.spots import spotted
from amphora.core.form.visit import GONE
from amphora.core.plan.states import Image
from amphora.core.values.canon import loose_digest
from amphora.core.values.errors import AmphoraError, EnvironmentRefused
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer, value_at, with_value, without_value
from amphora.engine.promises import Broken, Kept, Proving
from amphora.engine.specimens import make, remove, update
from amphora.environments.contract import ByDescription

LEFT_OUT = "an item can be changed, and what is left out is gone"
ENTRY = "an entry that is left out of a list is gone"
MOST_LEFT_OUT = 5
"""So many members are tried: that none of them goes is no chance any more."""


def try_left_out(proving: Proving, image: Image) -> None:
    """A member that is left out: gone, or kept, or nothing that can be left out; and one inside of a member."""
    sheet = _sheet(proving, image)
    definition, counts = image.newest, settled(image.newest, sheet)
    if not isinstance(counts, dict):
        return
    # What may never be empty is never taken away.
    needed = {at[0] for at, _, spot, _ in spotted(definition, sheet) if at and spot.refer and spot.refer.is_required}
    # What is empty would look the same if it were gone, and so would what only the platform's own values, or the
    # title, are in.
    outer = [(name,) for name in sorted(counts) if counts[name] and definition[name] and name not in needed]
    # A table that lets go of all its columns is no test, and perhaps no table any more.
    outer = [at for at in outer if at[0] not in proving.untried(image.kind)]
    _all_stay(proving, image, outer[:MOST_LEFT_OUT])
    # An object around an id (`{ kind, id }`) is taken whole or not at all: what stands beside the id follows from it.
    naming = {at[0] for at, _, spot, _ in spotted(definition, sheet) if len(at) == 2 and spot.refer}
    others = [name for (name,) in outer if name not in naming]
    inner = [(name, part) for name in others for part in _parts(counts[name]) if definition[name][part]]
    if not inner:
        return
    # On a copy of its own: some platforms take half of a member, and nothing of that item after it.
    with suppress(EnvironmentRefused):
        spare = make(proving, image, "less", proving.asked.get(image.native_id))
        try:
            _all_stay(proving, spare, inner[:MOST_LEFT_OUT])
        finally:
            # What is left of it is named at the end.
            with suppress(AmphoraError, Broken):
                remove(proving, [spare.native_id])


def _parts(value: Json) -> list[str]:
    return sorted(value) if isinstance(value, dict) else []


def try_entries(proving: Proving, kind: str, there: Sequence[Image]) -> None:
    """Leaves out the last entry of each list of objects, on a copy of the item that has the longest; Broken if it
    stays: some platforms take a list for what is to be added or changed."""
    apart = proving.untried(kind)
    longest: dict[str, Image] = {}
    for image in there:
        for name, value in image.newest.items() if isinstance(image.newest, dict) else ():
            is_list = isinstance(value, list) and value and all(isinstance(one, dict) for one in value)
            if is_list and name not in apart and _length(image, name) > _length(longest.get(name), name):
                longest[name] = image
    if not longest:
        return
    with proving.trying(ENTRY, kind):
        for number, (name, image) in enumerate(sorted(longest.items())[:MOST_LEFT_OUT]):
            # What can't be copied, or not without that entry, says nothing of entries.
            with suppress(EnvironmentRefused):
                _entry_goes(proving, make(proving, image, f"shorter {number}"), name)


def _length(image: Image | None, name: str) -> int:
    return len(json.dumps(image.newest[name])) if image else 0


def _entry_goes(proving: Proving, image: Image, name: str) -> None:
    sheet, before = _sheet(proving, image), image.newest
    try:
        # A copy that has not got what it is a copy of is told by another promise.
        if not before.get(name):
            return
        after = update(proving, image, image.states.title, {**before, name: before[name][:-1]}, image.revision)
        was, left = (loose_digest(settled(one, sheet).get(name)) for one in (before, after.newest))
        if was == left:
            raise Broken(
                f"an entry of {name!r} was left out and is still there: entries that go by calls of their own are"
                " `more`, with `add` and `remove`"
            )
    finally:
        with suppress(AmphoraError, Broken):
            remove(proving, [image.native_id])


def _all_stay(proving: Proving, image: Image, places: Sequence[Pointer]) -> None:
    """Leaves out what stands at these places, one at a time; Broken if all of it stays."""
    definition = image.newest
    stayed: list[str] = []
    for place in places:
        try:
            after = update(proving, image, image.states.title, without_value(definition, place), image.revision)
        except AmphoraError:
            # It can't be left out at all; what was refused may have moved it all the same.
            image = proving.environment.look([image.native_id]).get(image.native_id, image)
            continue
        name, held = ".".join(place), _held(after.newest, place)
        if held is None and len(place) > 1:
            raise Broken(f'{name!r} was left out and is null now: say how = "by member", if members are taken whole')
        try:
            image = update(proving, after, image.states.title, definition, after.revision)
        except AmphoraError:
            # It was taken, and can't be put back: nothing that this is about.
            return
        # One that returns to a default may have had it before: only if none of them goes they are kept.
        if held != _held(definition, place):
            return
        stayed.append(name)
    environment = proving.environment
    if stayed and isinstance(environment, ByDescription) and environment.names_gone(image.kind):
        # Nothing more can be said of it: an import learns it by looking after it has written.
        proving.say(LEFT_OUT, Kept.ODD, image.kind, f"{stayed[0]!r} stays when it is left out")
    elif stayed and not any(_returns(proving, image, place) for place in places if ".".join(place) in stayed):
        raise Broken(
            f'{stayed[0]!r} was left out and is still there: say how = "by member", or "merge patch" if the '
            "platform takes one; required = true at its [[refers]], if it can never be empty"
        )


def _returns(proving: Proving, image: Image, place: Pointer) -> bool:
    """Whether what stands at a place held its default, and goes back to that when it is left out: tried with another
    value, as far as the platform takes one."""
    # Whatever was tried before has given it another revision.
    image = proving.environment.look([image.native_id])[image.native_id]
    definition, title = image.newest, image.states.title
    other = _another(value_at(definition, place))
    if other is None or place in {at for at, _, spot, _ in spotted(definition, _sheet(proving, image)) if spot.refer}:
        return False
    revision = image.revision
    found: list[Json] = []
    for form in (with_value(definition, place, other), without_value(definition, place), definition):
        # By its id of now, and its revision: each of these changes may be refused.
        with suppress(AmphoraError):
            after = update(proving, image, title, form, revision)
            found.append(_held(after.newest, place))
            revision = after.revision
    return len(found) == 3 and found[0] == other and found[1] != other


def _another(value: Json) -> Json:
    """Another value like this one; None where nobody can tell what may stand there."""
    if isinstance(value, bool):
        return not value
    return value + 1 if isinstance(value, int | float) else f"{value} 2" if isinstance(value, str) else None


def _sheet(proving: Proving, image: Image) -> KindSheet:
    return proving.opened.description.sheets[image.kind]


def _held(definition: Json, place: Pointer) -> Json:
    """What stands there; GONE where nothing does."""
    try:
        return value_at(definition, place)
    except LookupError:
        return GONE
