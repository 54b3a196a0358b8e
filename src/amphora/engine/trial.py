"""Writing promises tried on one kind of items: copies of what is there are made, changed, published, switched,
removed."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace

from amphora.core.form.filled import filled_in, shuffled
from amphora.core.form.kinds import KindSheet
from amphora.core.form.objects import objects_used
from amphora.core.form.places import values_at
from amphora.core.form.settled import settled
from amphora.core.form.spots import ORDER, reference_values, secret_places
from amphora.core.plan.states import Image
from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved
from amphora.core.values.pointers import parse_pointer, with_value, write_pointer
from amphora.core.values.words import few
from amphora.engine.emptied import try_emptied
from amphora.engine.left_out import LEFT_OUT, try_entries, try_left_out
from amphora.engine.promises import Broken, Kept, Proving, expected
from amphora.engine.specimens import first, first_made, make, of_kind, remove, update, write_of
from amphora.environments.contract import (
    ByDescription,
    NotNew,
    Overtaken,
    Publishes,
    Seen,
    Switches,
    habits_of,
)

OVERTAKEN = ("again", "stale", "meanwhile", "overtaken")
"""What a copy is called while one change overtakes another."""

MOST_READ = 200
"""So many items are read: enough of every kind, and not a whole platform."""


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
        known = {row.native_id for row in environment.index()}
        made = first_made(proving, template, [row.states.title for row in rows])
        _as_asked(proving, template, made)
        _alone(proving, made, known)
    mine = of_kind(proving, kind)
    if not mine:
        return
    if (by := mine[0].modified_by) and by != (account := environment.whoami().account):
        words = (
            f"{by!r} made it, and {account!r} is signed in: what a run made that was cut off is known by that name"
        )
        proving.say("who makes an item is who is signed in", Kept.ODD, kind, words)
    changes = () if sheet.is_fixed else (_updated, _stale)
    for tried in (_twice, *changes, _published, _switched, _while_on, _kept_while_used):
        tried(proving, template)
    if kind in proving.renumbered:
        words = "with another title it has another id: what led to the old one leads nowhere"
        proving.say("an item can be called otherwise", Kept.ODD, kind, words)
    if not sheet.is_fixed:
        try_emptied(proving, kind, there)
        try_entries(proving, kind, there)
    mine = []
    with proving.trying("what was made can be removed", kind):
        mine = of_kind(proving, kind)
        remove(proving, [image.native_id for image in mine])
    _again(proving, template, mine)
    # What was made only to hold them; whatever is still there in the end is told.
    with suppress(AmphoraError):
        remove(proving, sorted(proving.holders))


def _again(proving: Proving, template: Image, mine: Sequence[Image]) -> None:
    for words in ("one", "changed", *OVERTAKEN):
        if gone := [image for image in mine if image.states.title == proving.titled(template.kind, words)]:
            _made_again(proving, template, words, gone[0])
            return


def _made_again(proving: Proving, template: Image, words: str, gone: Image) -> None:
    """A name that was somebody's once: an undo gives it back, and a next import asks for it."""
    with proving.trying("what was removed can be made again", template.kind):
        try:
            again = make(proving, template, words, proving.asked.get(gone.native_id), "again")
        except EnvironmentRefused as error:
            words = "Say in `retire` what lets go of its name for good: then = { … }"
            raise Broken(f"{error.message} {words}") from error
        remove(proving, [again.native_id])


def _is_named_elsewhere(image: Image, sheet: KindSheet) -> bool:
    """Whether what it is called is the name of something else, as that of a table: under another name there is
    nothing."""
    used = [objects_used(image.newest, sheet, title) for title in (image.states.title, f"{image.states.title}2")]
    return used[0] != used[1]


def _as_asked(proving: Proving, template: Image, made: Image) -> None:
    """What was made against what was asked for; what a platform adds is told, where it may."""
    sheet = proving.opened.description.sheets[template.kind]
    asked, found = proving.asked[made.native_id], made.newest
    pair = settled(asked, sheet), settled(found, sheet)
    off = filled_in(*pair, sheet.places)
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
    hidden = {write_pointer(at) for at in secret_places(asked, sheet)}
    if lost := [one.at for one in off if one.is_lost and one.at not in hidden]:
        is_all = isinstance(asked, dict) and {one.partition("/")[2] for one in lost} >= asked.keys()
        advised = "volatile in the kind sheet, if it is never taken"
        if is_all:
            # Hardly what a platform never takes.
            advised = "`write` has to say where it is written"
        raise Broken(f"what was written at {few(lost)} is not there: {advised}")
    if moved := sorted({*shuffled(*pair), *(one.at.removesuffix(ORDER) for one in off if one.is_order)}):
        words = f"the platform lists {few(moved)} in an order of its own: unordered in the kind sheet"
        proving.say(name, Kept.ODD, template.kind, words)
        return
    words = "fills in" if all(one.is_added for one in off) else "writes its own way"
    proving.say(name, Kept.ODD, template.kind, f"the platform {words}: {places}")


def _alone(proving: Proving, made: Image, known: Collection[str]) -> None:
    """Whether a platform puts something by itself into what is new: it would be there beside what a package has."""
    environment, sheets = proving.environment, proving.opened.description.sheets
    new = [row.native_id for row in environment.index() if row.native_id not in known]
    for image in environment.look([id_ for id_ in new if id_ not in proving.made]).values():
        holders = {value for path in sheets[image.kind].held_by for value in values_at(image.newest, path)}
        goes_along = isinstance(environment, ByDescription) and environment.goes_along(image.kind, image.newest)
        if made.native_id in holders and not goes_along:
            proving.made[image.native_id] = image.states.title
            words = f"the platform puts {image.states.title!r} into it: say brings = [{{ kind = {image.kind!r} }}]"
            proving.say("what is new holds nothing yet", Kept.FAILS, made.kind, f"{words} in `create`")


def _twice(proving: Proving, template: Image) -> None:
    """Two items of one name: which of three things the platform does."""
    name, kind = "two items of one name", template.kind
    with proving.trying(name, kind):
        _second(proving, template, name)


def _second(proving: Proving, template: Image, name: str) -> None:
    kind = template.kind
    try:
        # Another creation, and not the first one again: so its token is another.
        second = make(proving, template, "one", token="second")
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


def _updated(proving: Proving, template: Image) -> None:
    with proving.trying(LEFT_OUT, template.kind):
        image = first(proving, template)
        try:
            after = update(proving, image, proving.titled(template.kind, "changed"), image.newest, image.revision)
        except EnvironmentRefused as error:
            # Perhaps only its title can't be changed: that is told, and everything else is tried.
            after = update(proving, image, image.states.title, image.newest, image.revision)
            proving.say("an item can be called otherwise", Kept.ODD, template.kind, error.message)
            try_left_out(proving, after)
            return
        if after.states.title != proving.titled(template.kind, "changed"):
            raise Broken(f"its title is {after.states.title!r} after it was changed")
        if after.revision == image.revision:
            raise Broken("its revision is the same after it was changed")
        # What is never compared may change with anything: where an item stands among others, when it was saved.
        sheet = proving.opened.description.sheets[template.kind]
        if off := filled_in(settled(image.newest, sheet), settled(after.newest, sheet), sheet.places):
            raise Broken(f"with another title something else changed, at {off[0].at}")
        try_left_out(proving, after)


def _stale(proving: Proving, template: Image) -> None:
    name = "a change of what somebody changed meanwhile is refused"
    with proving.trying(name, template.kind):
        image = first(proving, template)
        titles = [proving.titled(template.kind, words) for words in OVERTAKEN]
        try:
            current = update(proving, image, titles[0], image.newest, image.revision)
        except EnvironmentRefused:
            # Nothing can be called otherwise there: written once more it is another one, too, by its revision.
            titles = [image.states.title] * 4
            current = update(proving, image, titles[0], image.newest, image.revision)
        if current.revision == image.revision:
            proving.say(name, Kept.UNTOLD, template.kind, "what is written once more as it is keeps its revision")
            return
        # With the id that it has by now, where a title gives it another.
        stale = replace(image, native_id=current.native_id)
        expected(
            RevisionMoved,
            lambda: update(proving, stale, titles[1], image.newest, image.revision),
            "it was written over",
            "moved",
        )
        # Looked at, for some platforms refuse with words and write all the same.
        now = proving.environment.look([current.native_id])[current.native_id]
        if (now.states.title, now.revision) != (current.states.title, current.revision):
            raise Broken("it was refused, and changed all the same")
        # Of the kind, where that is known: one that isn't makes the whole environment one that isn't.
        is_guarded = (
            proving.environment.is_guarded(template.kind)
            if isinstance(proving.environment, ByDescription)
            else proving.opened.description.capabilities.is_guarded
        )
        if not is_guarded:
            proving.say(name, Kept.ODD, template.kind, "by looking just before: the moment between is not guarded")
        elif isinstance(proving.environment, Overtaken):
            _overtaken(proving, proving.environment, now, *titles[2:])


def _overtaken(proving: Proving, environment: Overtaken, image: Image, theirs: str, title: str) -> None:
    """Whether the platform compares by itself, as its description says: somebody writes between our look and our
    call."""

    def somebody() -> None:
        update(proving, image, theirs, image.newest, image.revision)

    ours = write_of(proving, image, title, image.newest, image.revision)
    words = "it was written over, right after the look: the platform doesn't compare, and `match` says that it does"
    expected(RevisionMoved, lambda: environment.overtaken(ours, somebody), words, "moved")


def _published(proving: Proving, template: Image) -> None:
    environment = proving.environment
    if not habits_of(proving.opened.description).drafts(template.kind) or not isinstance(environment, Publishes):
        return
    with proving.trying("a draft goes live by publishing, and only then", template.kind):
        image = first(proving, template)
        if image.live is not None or image.draft is None:
            raise Broken("what was made is live before anybody published it")
        environment.publish(Seen(image.native_id, image.revision))
        after = first(proving, template)
        if after.live is None or after.draft is not None:
            raise Broken("it is not live after publishing, or its draft is still there")
        # A flow that starts because it was published is damage that nobody sees.
        if after.states.is_on != image.states.is_on:
            raise Broken("publishing switched it on")
    if proving.opened.description.capabilities.takes_back:
        with proving.trying("a live version can be taken back", template.kind):
            after = first(proving, template)
            environment.take_back(Seen(after.native_id, after.revision))
            if first(proving, template).live is not None:
                raise Broken("it is still live")


def _switched(proving: Proving, template: Image) -> None:
    environment = proving.environment
    if not proving.opened.description.sheets[template.kind].is_switched or not isinstance(environment, Switches):
        return
    with proving.trying("what is made is off, and can be switched on and off", template.kind):
        image = first(proving, template)
        if image.states.is_on:
            raise Broken("it was on as soon as it was made")
        # Off again at the end: a copy that runs is somebody's trouble.
        for wanted in (True, False):
            now = _live(proving, first(proving, template))
            environment.switch(Seen(now.native_id, now.revision), wanted)
            if first(proving, template).states.is_on is not wanted:
                raise Broken(f"it is not {'on' if wanted else 'off'} after switching")


def _live(proving: Proving, image: Image) -> Image:
    """The same item, published: what isn't may not be switched on, and nobody does it in another order."""
    environment = proving.environment
    is_draft = habits_of(proving.opened.description).drafts(image.kind) and image.live is None
    if is_draft and isinstance(environment, Publishes):
        environment.publish(Seen(image.native_id, image.revision))
        return environment.look([image.native_id])[image.native_id]
    return image


def _while_on(proving: Proving, template: Image) -> None:
    """Whether what is on can be changed and removed, where nothing says that it has to be off for that."""
    environment, kind = proving.environment, template.kind
    habits = habits_of(proving.opened.description)
    sheet = habits.sheets[kind]
    if not sheet.is_switched or not isinstance(environment, Switches):
        return
    with proving.trying("what is on can be changed and removed", kind):
        image = make(proving, template, "on")
        try:
            image = _live(proving, image)
            environment.switch(Seen(image.native_id, image.revision), True)
            with _said(proving, kind, "update"):
                if ("write", kind) not in habits.rests and not sheet.is_fixed:
                    image = environment.look([image.native_id])[image.native_id]
                    update(proving, image, image.states.title, image.newest, image.revision)
            with _said(proving, kind, "retire"):
                if ("retire", kind) not in habits.rests:
                    remove(proving, [image.native_id])
        finally:
            # Off before it goes: that is how it goes everywhere.
            for left in environment.look([image.native_id]).values():
                if left.states.is_on:
                    environment.switch(Seen(left.native_id, left.revision), False)
                remove(proving, [left.native_id])


@contextmanager
def _said(proving: Proving, kind: str, call: str) -> Iterator[None]:
    """Tells what is refused of something that is on, with the line that says so."""
    try:
        yield
    except EnvironmentRefused as error:
        words = f'{error.message} If that is because it is on: {call} = {{ …, when = "off" }}'
        proving.say("what is on can be changed and removed", Kept.FAILS, kind, words)


def _kept_while_used(proving: Proving, template: Image) -> None:
    """Removing what another item uses is refused; both together go."""
    environment, sheets = proving.environment, proving.opened.description.sheets
    used = next(iter(of_kind(proving, template.kind)), None)
    if used is None:
        return
    kinds = {row.native_id: row.kind for row in environment.index()}
    for user in environment.look(list(kinds)[:MOST_READ]).values():
        named = [
            (place, value)
            for place, value, _ in reference_values(user.newest, sheets[user.kind])
            if kinds.get(value) == template.kind
        ]
        # One of several, wherever it is named: a list may name nothing twice.
        places = [place for place, value in named if value == named[0][1]]
        goes_along = isinstance(environment, ByDescription) and environment.goes_along(user.kind, user.newest)
        if not places or goes_along or proving.is_ours(user.states.title):
            continue
        definition = user.newest
        for place in places:
            definition = with_value(definition, parse_pointer(place), used.native_id)
        try:
            one = make(proving, user, f"user of {template.kind}", definition)
        except EnvironmentRefused:
            # Something that no two of them may share: another one may do.
            continue
        with proving.trying("what is used can't be removed", template.kind):
            expected(
                EnvironmentRefused,
                lambda: environment.retire([Seen(used.native_id, first(proving, template).revision)]),
                f"it was removed from under {one.states.title!r}",
            )
            remove(proving, [one.native_id])
        return
