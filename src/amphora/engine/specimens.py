"""Copies of items, made to try promises on: called in the manner of their kind, off, unpublished, without secrets."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import replace

from amphora.core.form.places import values_at
from amphora.core.form.spots import masked_places
from amphora.core.form.visit import BELOW, GONE, rebuilt, with_texts
from amphora.core.plan.states import Image
from amphora.core.values.errors import AmphoraError, EnvironmentRefused
from amphora.core.values.keys import Key
from amphora.core.values.model import Json, States
from amphora.core.values.pointers import parse_pointer, without_value
from amphora.engine.promises import Broken, Kept, Proving
from amphora.environments.contract import ChoosesIds, Environment, Seen, Wanted, Write, Written


def first_made(proving: Proving, template: Image, titles: Sequence[str]) -> Image:
    """A copy, called in the manner in which others of its kind are."""
    # Where a blank stands in one of them, all of this may.
    joints = [" "] if any(" " in title for title in titles) else ["-", "_", " "]
    joints.sort(key=lambda joint: not any(joint in title for title in titles))
    refused: AmphoraError | None = None
    for joint in joints:
        proving.joints[template.kind] = joint
        try:
            return _shared(proving, template)
        except EnvironmentRefused as error:
            # The first one is told: it is about the likeliest manner.
            refused = refused or error
    assert refused
    raise refused


def _shared(proving: Proving, template: Image) -> Image:
    """A copy; without the member that two items may not share, if there is one."""
    try:
        # As it is first: most platforms share everything but ids.
        return make(proving, template, "one")
    except EnvironmentRefused as error:
        definition = template.newest if isinstance(template.newest, dict) else {}
        # Texts only: what has to be unique is a name of some kind, an address, a slug.
        for member in [name for name, value in definition.items() if isinstance(value, str)]:
            less = {name: value for name, value in definition.items() if name != member}
            with contextlib.suppress(EnvironmentRefused):
                made = make(proving, template, "one", less, token=f"without {member}")
                words = f"no two may have the same {member!r}: {error.message}"
                proving.say("two items may say the same", Kept.ODD, template.kind, words)
                proving.unshared[template.kind] = member
                return made
        # Or it has to be the only one in what holds it: then in a copy of that.
        with contextlib.suppress(EnvironmentRefused):
            if made_there := _held_by_a_copy(proving, template):
                return made_there
        raise


def _held_by_a_copy(proving: Proving, template: Image) -> Image | None:
    definition = template.newest
    for path in proving.opened.description.sheets[template.kind].held_by:
        for native_id in values_at(definition, path):
            holder = proving.environment.look([native_id]).get(native_id)
            if holder is None:
                continue
            copy = make(proving, holder, f"for {template.kind}")
            proving.holders.add(copy.native_id)
            member = path.removeprefix("$.")
            try:
                return make(proving, template, "one", {**definition, member: copy.native_id}, token="held")
            except EnvironmentRefused:
                remove(proving, [copy.native_id])
                raise
    return None


def make(proving: Proving, template: Image, name: str, definition: Json = None, token: str = "") -> Image:
    """A copy of an item, in the proof's own folder where there are folders."""
    environment, sheets = proving.environment, proving.opened.description.sheets
    has_folder = len(template.segments) > 1 or any(len(row.segments) > 1 for row in environment.index())
    title = proving.titled(template.kind, name)
    segments = (proving.mark, title) if has_folder else (title,)
    sheet = sheets[template.kind]
    states = States(
        title,
        proving.mark if has_folder else "",
        # Off and unpublished: what is made to try something must not begin to work.
        False if sheet.is_switched else None,
        False if sheet.is_published else None,
    )
    wanted = template.newest if definition is None else definition
    if definition is None and isinstance(wanted, dict):
        # It was found to be nobody else's, and filled in where it is left out.
        wanted = {name: value for name, value in wanted.items() if name != proving.unshared.get(template.kind)}
    # What never travels is the original's own: ids of its parts, times, counters.
    wanted = rebuilt(wanted, sheet.places.walk(wanted), lambda _, walk: GONE if walk.spot.is_volatile else BELOW)
    # A secret is nobody's to copy: where one stood, nothing does.
    for place in masked_places(wanted, sheet):
        wanted = without_value(wanted, parse_pointer(place))
    native_id, inner = _reserved(proving, template, segments)
    # Ids of parts are nobody else's either, where they have some of their own.
    wanted = with_texts(wanted, lambda text: inner.get(text, text))
    write = Write(
        template.kind, segments, states, wanted, f"{proving.mark}/{template.kind}/{token or name}", native_id
    )
    [written] = environment.write([write])
    proving.made[written.native_id], proving.asked[written.native_id] = title, wanted
    return looked(environment, written)


def _reserved(proving: Proving, template: Image, segments: Sequence[str]) -> tuple[str | None, Mapping[str, str]]:
    """The id of a new item, and those of its parts, where they are ours to choose."""
    environment = proving.environment
    if not isinstance(environment, ChoosesIds):
        return None, {}
    key: Key = f"{template.kind}:{'/'.join(segments)}"
    parts = next((row.parts for row in environment.index() if row.native_id == template.native_id), ())
    [found] = environment.reserve([Wanted(key, template.kind, template.native_id, True, parts, is_anew=True)])
    return found.native_id, found.inner


def looked(environment: Environment, written: Written) -> Image:
    image = environment.look([written.native_id]).get(written.native_id)
    if image is None:
        raise Broken("it answers that it has made or changed an item, and does not show it")
    return image


def of_kind(proving: Proving, kind: str) -> list[Image]:
    """What was made of a kind, the first one first."""
    there = proving.environment.look(list(proving.made))
    mine = [id_ for id_ in proving.made if id_ in there and id_ not in proving.holders]
    return [there[id_] for id_ in mine if there[id_].kind == kind]


def first(proving: Proving, template: Image) -> Image:
    # Looked for anew each time: what is tried on it may have made it another one.
    there = of_kind(proving, template.kind)
    if not there:
        raise Broken("what was made is gone")
    return there[0]


def update(proving: Proving, image: Image, title: str, definition: Json, revision: str) -> Image:
    [written] = proving.environment.write([write_of(proving, image, title, definition, revision)])
    if written.native_id != image.native_id:
        # Remembered by its new id, in the same order.
        ids = [written.native_id if id_ == image.native_id else id_ for id_ in proving.made]
        proving.made = dict(zip(ids, proving.made.values(), strict=True))
        proving.asked[written.native_id] = proving.asked.pop(image.native_id, None)
        proving.renumbered.add(image.kind)
    return looked(proving.environment, written)


def write_of(proving: Proving, image: Image, title: str, definition: Json, revision: str) -> Write:
    states = replace(image.states, title=title)
    segments = (*image.segments[:-1], title)
    # A token of its own for each: with the same one it would be the same write, and rightly answered like it.
    token = f"{proving.mark}/{secrets.token_hex(4)}"
    return Write(image.kind, segments, states, definition, token, image.native_id, revision)


def remove(proving: Proving, ids: Sequence[str]) -> None:
    environment = proving.environment
    there = environment.look(list(ids))
    environment.retire([Seen(image.native_id, image.revision) for image in there.values()])
    # Looked at and not believed: some answer 200 and keep it.
    if left := environment.look(list(ids)):
        raise Broken(f"{next(iter(left.values())).states.title!r} is still there after it was removed")
    for id_ in ids:
        proving.made.pop(id_, None)
