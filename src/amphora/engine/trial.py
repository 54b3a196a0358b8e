"""Writing promises tried on one kind of items: copies of what is there are made, changed, published, switched,
removed."""

from __future__ import annotations

import contextlib
import json
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import replace

from amphora.core.form.filled import filled_in
from amphora.core.form.kinds import KindSheet
from amphora.core.form.objects import objects_used
from amphora.core.form.settled import settled
from amphora.core.form.spots import masked_places, reference_values, spotted
from amphora.core.form.visit import BELOW, GONE, rebuilt, with_texts
from amphora.core.plan.states import Image
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved
from amphora.core.values.keys import Key
from amphora.core.values.model import Json, States
from amphora.core.values.pointers import Pointer, parse_pointer, value_at, with_value, without_value
from amphora.engine.promises import Broken, Kept, Proving, expected
from amphora.environments.contract import (
    ChoosesIds,
    Environment,
    NotNew,
    Publishes,
    Seen,
    Switches,
    Wanted,
    Write,
    Written,
    habits_of,
)

MOST_READ = 200
"""So many items are read: enough of every kind, and not a whole platform."""

MOST_LEFT_OUT = 5


def try_kind(proving: Proving, kind: str) -> None:
    """Tries to write items of one kind: copies of the smallest that is there."""
    environment = proving.environment
    rows = [row for row in environment.index() if row.kind == kind]
    images = environment.look([row.native_id for row in rows[:MOST_READ]])
    there = [image for image in images.values() if image.newest is not None]
    sheet = proving.opened.description.sheets[kind]
    templates = [image for image in there if not _is_named_elsewhere(image, sheet)]
    if not templates:
        words = "each has to be called what it is on the other end of its connection" if there else "there is none"
        proving.say("items can be made", Kept.UNTOLD, kind, f"{words}: nothing to make a copy of")
        return
    template = min(templates, key=lambda image: (len(json.dumps(image.newest)), image.native_id))
    with proving.trying("an item can be made, and is what was asked for", kind):
        _as_asked(proving, template, _first_made(proving, template, [row.states.title for row in rows]))
    if not any(_of_kind(proving, kind)):
        return
    for tried in (_twice, _updated, _stale, _published, _switched, _kept_while_used):
        tried(proving, template)
    with proving.trying("what was made can be removed", kind):
        remove(proving, [image.native_id for image in _of_kind(proving, kind)])


def _is_named_elsewhere(image: Image, sheet: KindSheet) -> bool:
    """Whether what it is called is the name of something else, as that of a table: under another name there is
    nothing."""
    used = [objects_used(image.newest, sheet, title) for title in (image.states.title, f"{image.states.title}2")]
    return used[0] != used[1]


def _first_made(proving: Proving, template: Image, titles: Sequence[str]) -> Image:
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
        return _make(proving, template, "one")
    except EnvironmentRefused as error:
        definition = template.newest if isinstance(template.newest, dict) else {}
        # Texts only: what has to be unique is a name of some kind, an address, a slug.
        for member in [name for name, value in definition.items() if isinstance(value, str)]:
            less = {name: value for name, value in definition.items() if name != member}
            with contextlib.suppress(EnvironmentRefused):
                made = _make(proving, template, "one", less, token=f"without {member}")
                words = f"no two may have the same {member!r}: {error.message}"
                proving.say("two items may say the same", Kept.ODD, template.kind, words)
                return made
        raise


def _make(proving: Proving, template: Image, name: str, definition: Json = None, token: str = "") -> Image:
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
    return _looked(environment, written)


def _reserved(proving: Proving, template: Image, segments: Sequence[str]) -> tuple[str | None, Mapping[str, str]]:
    """The id of a new item, and those of its parts, where they are ours to choose."""
    environment = proving.environment
    if not isinstance(environment, ChoosesIds):
        return None, {}
    key: Key = f"{template.kind}:{'/'.join(segments)}"
    parts = next((row.parts for row in environment.index() if row.native_id == template.native_id), ())
    [found] = environment.reserve([Wanted(key, template.kind, template.native_id, True, parts, is_anew=True)])
    return found.native_id, found.inner


def _looked(environment: Environment, written: Written) -> Image:
    image = environment.look([written.native_id]).get(written.native_id)
    if image is None:
        raise Broken("it answers that it has made or changed an item, and does not show it")
    return image


def _as_asked(proving: Proving, template: Image, made: Image) -> None:
    """What was made against what was asked for; what a platform adds is told, where it may."""
    sheet = proving.opened.description.sheets[template.kind]
    asked, found = proving.asked[made.native_id], made.newest
    off = filled_in(settled(asked, sheet), settled(found, sheet))
    name = "an item can be made, and is what was asked for"
    # Told and no failure: Amphora can live with it, and an administrator has to know.
    if made.states.title != proving.titled(template.kind, "one"):
        proving.say(name, Kept.ODD, template.kind, f"it is called {made.states.title!r}: the platform renames")
        return
    if not off:
        return
    places = ", ".join(one.at or "/" for one in off[:5])
    if not proving.opened.description.capabilities.fills_in:
        raise Broken(f"something else is there at {places}")
    words = "fills in" if all(one.is_added for one in off) else "writes its own way"
    proving.say(name, Kept.ODD, template.kind, f"the platform {words}: {places}")


def _twice(proving: Proving, template: Image) -> None:
    """Two items of one name: which of three things the platform does."""
    name, kind = "two items of one name", template.kind
    with proving.trying(name, kind):
        _second(proving, template, name)


def _second(proving: Proving, template: Image, name: str) -> None:
    kind = template.kind
    try:
        # Another creation, and not the first one again: so its token is another.
        second = _make(proving, template, "one", token="second")
    except NotNew as error:
        raise Broken(f"{error.message} Say in `create` by which places it does: same = [...]") from error
    except EnvironmentRefused as error:
        proving.say(name, Kept.HOLDS, kind, f"the second is refused: {error.message}")
        return
    if second.states.title != proving.titled(template.kind, "one"):
        proving.say(name, Kept.ODD, kind, f"the second is called {second.states.title!r}: the platform renames")
    # Which of the three it does is open; that it does what it says is the promise.
    elif proving.opened.description.capabilities.has_unique_names:
        proving.say(name, Kept.FAILS, kind, "names are said to be unique, and a second one was made")
    else:
        proving.say(name, Kept.HOLDS, kind, "both are there")
    remove(proving, [second.native_id])


def _of_kind(proving: Proving, kind: str) -> list[Image]:
    """What was made of a kind, the first one first."""
    there = proving.environment.look(list(proving.made))
    return [there[id_] for id_ in proving.made if id_ in there and there[id_].kind == kind]


def _first(proving: Proving, template: Image) -> Image:
    # Looked for anew each time: what is tried on it may have made it another one.
    there = _of_kind(proving, template.kind)
    if not there:
        raise Broken("what was made is gone")
    return there[0]


def _update(proving: Proving, image: Image, title: str, definition: Json, revision: str) -> Image:
    states = replace(image.states, title=title)
    segments = (*image.segments[:-1], title)
    # A token of its own for each: with the same one it would be the same write, and rightly answered like it.
    token = f"{proving.mark}/{secrets.token_hex(4)}"
    write = Write(image.kind, segments, states, definition, token, image.native_id, revision)
    [written] = proving.environment.write([write])
    return _looked(proving.environment, written)


def _updated(proving: Proving, template: Image) -> None:
    with proving.trying("an item can be changed, and what is left out is gone", template.kind):
        image = _first(proving, template)
        try:
            after = _update(proving, image, proving.titled(template.kind, "changed"), image.newest, image.revision)
        except EnvironmentRefused as error:
            # Perhaps only its title can't be changed: that is told, and everything else is tried.
            after = _update(proving, image, image.states.title, image.newest, image.revision)
            proving.say("an item can be called otherwise", Kept.ODD, template.kind, error.message)
            _left_out(proving, after)
            return
        if after.states.title != proving.titled(template.kind, "changed"):
            raise Broken(f"its title is {after.states.title!r} after it was changed")
        if after.revision == image.revision:
            raise Broken("its revision is the same after it was changed")
        # What is never compared may change with anything: where an item stands among others, when it was saved.
        sheet = proving.opened.description.sheets[template.kind]
        if off := filled_in(settled(image.newest, sheet), settled(after.newest, sheet)):
            raise Broken(f"with another title something else changed, at {off[0].at}")
        _left_out(proving, after)


def _left_out(proving: Proving, image: Image) -> None:
    """A member that is left out: gone, or kept, or nothing that can be left out; and one inside of a member."""
    sheet = proving.opened.description.sheets[image.kind]
    definition, counts = image.newest, settled(image.newest, sheet)
    if not isinstance(counts, dict):
        return
    # What may never be empty is never taken away.
    needed = {at[0] for at, _, spot, _ in spotted(definition, sheet) if at and spot.refer and spot.refer.is_required}
    # What is empty would look the same if it were gone.
    outer = [(name,) for name in sorted(counts) if definition[name] and name not in needed]
    inner = [(name, part) for (name,) in outer for part in _parts(counts[name]) if definition[name][part]]
    for places in (outer, inner):
        _all_stay(proving, image, places[:MOST_LEFT_OUT])


def _parts(value: Json) -> list[str]:
    return sorted(value) if isinstance(value, dict) else []


def _all_stay(proving: Proving, image: Image, places: Sequence[Pointer]) -> None:
    """Leaves out what stands at these places, one at a time; Broken if all of it stays."""
    definition = image.newest
    stayed: list[str] = []
    for place in places:
        image = _first(proving, image)
        try:
            after = _update(proving, image, image.states.title, without_value(definition, place), image.revision)
        except AmphoraError:
            # It can't be left out at all.
            continue
        name = ".".join(place)
        _update(proving, after, image.states.title, definition, after.revision)
        held = _held(after.newest, place)
        if held is None and len(place) > 1:
            raise Broken(f'{name!r} was left out and is null now: say how = "by member", if members are taken whole')
        # One that returns to a default may have had it before: only if none of them goes they are kept.
        if held != _held(definition, place):
            return
        stayed.append(name)
    if stayed:
        raise Broken(
            f'{stayed[0]!r} was left out and is still there: say how = "by member", or "merge patch" if the '
            "platform takes one"
        )


def _held(definition: Json, place: Pointer) -> Json:
    """What stands there; GONE where nothing does."""
    try:
        return value_at(definition, place)
    except LookupError:
        return GONE


def _stale(proving: Proving, template: Image) -> None:
    name = "a change of what somebody changed meanwhile is refused"
    with proving.trying(name, template.kind):
        image = _first(proving, template)
        try:
            current = _update(proving, image, proving.titled(template.kind, "again"), image.newest, image.revision)
        except EnvironmentRefused as error:
            proving.say(name, Kept.UNTOLD, template.kind, f"nothing was changed: {error.message}")
            return
        expected(
            RevisionMoved,
            lambda: _update(proving, image, proving.titled(template.kind, "stale"), image.newest, image.revision),
            "it was written over",
        )
        # Looked at, for some platforms refuse with words and write all the same.
        now = proving.environment.look([image.native_id])[image.native_id]
        if now.states.title != current.states.title:
            raise Broken("it was refused, and changed all the same")
        if not proving.opened.description.capabilities.is_guarded:
            proving.say(name, Kept.ODD, template.kind, "by looking just before: the moment between is not guarded")


def _published(proving: Proving, template: Image) -> None:
    environment = proving.environment
    if not habits_of(proving.opened.description).drafts(template.kind) or not isinstance(environment, Publishes):
        return
    with proving.trying("a draft goes live by publishing, and only then", template.kind):
        image = _first(proving, template)
        if image.live is not None or image.draft is None:
            raise Broken("what was made is live before anybody published it")
        environment.publish(Seen(image.native_id, image.revision))
        after = _first(proving, template)
        if after.live is None or after.draft is not None:
            raise Broken("it is not live after publishing, or its draft is still there")
        # A flow that starts because it was published is damage that nobody sees.
        if after.states.is_on != image.states.is_on:
            raise Broken("publishing switched it on")
    if proving.opened.description.capabilities.takes_back:
        with proving.trying("a live version can be taken back", template.kind):
            after = _first(proving, template)
            environment.take_back(Seen(after.native_id, after.revision))
            if _first(proving, template).live is not None:
                raise Broken("it is still live")


def _switched(proving: Proving, template: Image) -> None:
    environment = proving.environment
    if not proving.opened.description.sheets[template.kind].is_switched or not isinstance(environment, Switches):
        return
    with proving.trying("what is made is off, and can be switched on and off", template.kind):
        image = _first(proving, template)
        if image.states.is_on:
            raise Broken("it was on as soon as it was made")
        # Off again at the end: a copy that runs is somebody's trouble.
        for wanted in (True, False):
            now = _first(proving, template)
            environment.switch(Seen(now.native_id, now.revision), wanted)
            if _first(proving, template).states.is_on is not wanted:
                raise Broken(f"it is not {'on' if wanted else 'off'} after switching")


def _kept_while_used(proving: Proving, template: Image) -> None:
    """Removing what another item uses is refused; both together go."""
    environment, sheets = proving.environment, proving.opened.description.sheets
    used = next(iter(_of_kind(proving, template.kind)), None)
    if used is None:
        return
    kinds = {row.native_id: row.kind for row in environment.index()}
    for user in environment.look(list(kinds)[:MOST_READ]).values():
        places = [
            place
            for place, value, _ in reference_values(user.newest, sheets[user.kind])
            if kinds.get(value) == template.kind
        ]
        if not places or proving.is_ours(user.states.title):
            continue
        definition = user.newest
        for place in places:
            definition = with_value(definition, parse_pointer(place), used.native_id)
        try:
            one = _make(proving, user, f"user of {template.kind}", definition)
        except EnvironmentRefused:
            # Something that no two of them may share: another one may do.
            continue
        with proving.trying("what is used can't be removed", template.kind):
            expected(
                EnvironmentRefused,
                lambda: environment.retire([Seen(used.native_id, _first(proving, template).revision)]),
                f"it was removed from under {one.states.title!r}",
            )
            remove(proving, [one.native_id])
        return


def remove(proving: Proving, ids: Sequence[str]) -> None:
    environment = proving.environment
    there = environment.look(list(ids))
    environment.retire([Seen(image.native_id, image.revision) for image in there.values()])
    # Looked at and not believed: some answer 200 and keep it.
    if left := environment.look(list(ids)):
        raise Broken(f"{next(iter(left.values())).states.title!r} is still there after it was removed")
    for id_ in ids:
        proving.made.pop(id_, None)
