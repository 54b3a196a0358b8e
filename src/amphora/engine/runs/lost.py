"""Lost answers: what became of a step that nobody heard of again? Only the target can say."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from functools import partial
from typing import TypeGuard

from amphora.core.form.filled import filled_in, stayed
from amphora.core.form.hollow import loosened
from amphora.core.form.kinds import KindSheet
from amphora.core.form.settled import settled
from amphora.core.plan.states import Habits, Image, is_same
from amphora.core.plan.steps import LoadRows, RetireSet
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.runs.batch import Ready
from amphora.engine.steps import Bench
from amphora.environments.contract import Environment, RemembersTokens

LATE_S = (0.3, 0.7, 1.5)
"""So long an effect is waited for that a platform doesn't show yet."""


@dataclass(frozen=True)
class Search:
    """What was found of a creation whose answer is unknown. `doubt` says why nobody can tell; `is_as_meant` that it
    was known by what it holds, all of it or what its first call makes."""

    image: Image | None = None
    doubt: str = ""
    is_as_meant: bool = False


@dataclass(frozen=True)
class Looked:
    """What a look shows of a step that nobody has answered: ids and states, of which items it is `sure` that the
    step made them, and whether all is as it was meant, as it was before, or what a platform made of what was meant.
    `found` is what was there before, as it is now."""

    made: Mapping[Key, str]
    now: Mapping[Key, str]
    sure: frozenset[Key]
    is_as_meant: bool
    is_as_before: bool
    is_ours: bool
    found: Mapping[Key, Image]


def looked_at(
    environment: Environment,
    habits: Habits,
    ready: Ready,
    present: Mapping[Key, Image | None],
    known: Collection[str],
    account: str,
) -> Looked:
    """What became of a step. `present` is what was there before it, `known` the ids of all that was there before the
    run or was made by it."""
    step = ready.step
    made: dict[Key, str] = {}
    now: dict[Key, str] = {}
    sure = set[Key]()
    found: dict[Key, Image] = {}
    is_ours, is_known = habits.fills_in, True
    for key in step.keys:
        image, meant = present.get(key), ready.leaves[key]
        if image is not None:
            image = environment.look([image.native_id]).get(image.native_id)
            found |= {key: image} if image else {}
            if _is_begun(image, meant, ready.before[key], habits, account):
                made |= {key: image.native_id}
                sure.add(key)
        else:
            holds = partial(_holds, habits, habits.bare(meant))
            search = find_made(environment, habits, key, ready.intent, known, account, holds)
            image = search.image
            # What is there under its name may be half of what we made, or somebody's.
            is_known = is_known and not search.doubt
            made |= {key: image.native_id} if image else {}
            sure |= {key} if search.is_as_meant else set()
        now[key] = habits.mark(image)
        is_ours = is_ours and image is not None and (image.modified_by == account or key in sure)
        is_ours = is_ours and _holds_all(image, meant, habits.sheets, present.get(key))
    # Elsewhere rows may come and go while we look: people work with the tables.
    counts = isinstance(step, LoadRows | RetireSet)
    is_as_meant = all(is_same(now[key], ready.meant[key], counts) for key in step.keys)
    is_as_before = is_known and all(is_same(now[key], ready.before[key], counts) for key in step.keys)
    return Looked(made, now, frozenset(sure), is_as_meant, is_as_before, is_ours, found)


def only_saved(environment: Environment, bench: Bench, ready: Ready) -> dict[Key, Image]:
    """The items that have another revision than was known, where all that a step is on is the same all the same: some
    platforms save what uses something whenever that is changed."""
    was = {key: image for key in ready.step.keys if (image := bench.now.get(key))}
    found = environment.look([image.native_id for image in was.values()])
    there = {key: found.get(image.native_id) for key, image in was.items()}
    counts = isinstance(ready.step, LoadRows | RetireSet)
    if not all(is_same(bench.habits.mark(there[key]), ready.before[key], counts) for key in was):
        return {}
    return {key: one for key, one in there.items() if one and one.revision != was[key].revision}


def _is_begun(
    image: Image | None, meant: Image | None, before: str, habits: Habits, account: str
) -> TypeGuard[Image]:
    """Whether a change that nobody has answered was begun: what its first call writes is there. Just now, so that
    nobody else would have written the same."""
    if not habits.fills_in or image is None or meant is None or image.modified_by not in (None, account):
        return False
    return not is_same(habits.mark(image), before) and _holds(habits, habits.bare(meant), image)


def _holds(habits: Habits, meant: Image | None, image: Image) -> bool:
    return _holds_all(habits.bare(image), meant, habits.sheets)


def _holds_all(
    image: Image | None, meant: Image | None, sheets: Mapping[str, KindSheet], before: Image | None = None
) -> bool:
    """Whether all that was meant is there, and nothing but additions beside it: none that was there `before`."""
    if image is None or meant is None:
        return False
    # What was to be off and is on is half of what was meant.
    if (image.states.title, image.states.is_on) != (meant.states.title, meant.states.is_on):
        return False
    sheet = sheets[image.kind]
    off = filled_in(settled(meant.newest, sheet), settled(image.newest, sheet), sheet.places)
    is_all = all(one.is_added or one.is_order for one in off)
    return is_all and not (before and stayed(off, settled(before.newest, sheet), sheet.places))


def find_made(
    environment: Environment,
    habits: Habits,
    key: Key,
    intent: Mapping[str, Json],
    before: Collection[str],
    account: str,
    holds: Callable[[Image], bool] = lambda image: False,
) -> Search:
    """Looks for what a creation may have made: by its token, by the id that we chose, else by kind, place,
    account and state among what was not there before (`before`: native ids). `holds` says of one whether all that was
    meant is there, which a digest can't. The order of the plan, section 2."""
    chosen = intent["ids"].get(key)
    meant = {intent["meant"].get(key, ""), intent.get("bare", {}).get(key, "")}

    def is_as_meant(image: Image) -> bool:
        return image.modified_by in (None, account) and (_is_one_of(image, habits, meant) or holds(image))

    # The surest first: an id of our own choice can be nobody else's. What the environment says of a token is certain
    # both ways, too, so that nothing has to be guessed.
    if not chosen and isinstance(environment, RemembersTokens):
        written = environment.answered(f"{intent['token']}/{key}")
        if written is None:
            return Search()
        chosen = written.native_id
    if chosen:
        image = environment.look([chosen]).get(chosen)
        return Search(image, is_as_meant=image is not None and is_as_meant(image))
    place = intent.get("places", {}).get(key)
    rows = [
        row
        for row in environment.index()
        if row.native_id not in before
        and [row.kind, row.states.folder, row.segments[-1] if row.segments else row.states.title] == place
    ]
    images = environment.look([row.native_id for row in rows])
    as_meant = [image for image in images.values() if is_as_meant(image)]
    # Where what is there is always a little more than what was written, the account has to do: it was not there
    # before, and whoever else made one of that name would be told by theirs.
    ours = as_meant or [image for image in images.values() if habits.fills_in and image.modified_by == account]
    # Two would be a guess, and none beside rows of that name a doubt: then nothing is touched.
    if len(ours) == 1:
        return Search(ours[0], is_as_meant=bool(as_meant))
    if rows:
        words = "nobody can tell whether this run made what is there under its name; if so, remove it there by hand"
        return Search(None, words)
    return Search()


def half_of(before: Image | None, meant: Image | None, habits: Habits) -> Json:
    """By what a change that stops half-way is known: marks of its states without the members that it changes and
    those that have calls of their own; of each of the former what it may be, before or after, for a platform that
    fills in or leaves out shows neither state as a whole; and of the latter what has to be there and what may."""
    if before is None or meant is None or not habits.fills_in:
        return None
    halves = habits.halves(before, meant)
    tables = [habits.members(one) for one in halves]
    names = sorted({name for table in tables for name in table})
    # What it was before comes first.
    all_ = {name: list(dict.fromkeys(table.get(name, "") for table in tables)) for name in names}
    members = {name: values for name, values in all_.items() if len(values) > 1}
    marks = sorted({habits.mark(habits.less(one, members)) for one in halves})
    written = habits.mark(habits.less(meant, members))
    was, wanted = habits.pieces(before), habits.pieces(meant)
    between: dict[str, Json] = {}
    for name in sorted({*was, *wanted}):
        one, other = was.get(name, set()), wanted.get(name, set())
        between[name] = [sorted(one & other), sorted(one | other)]
    half: dict[str, Json] = {"bare": marks, "written": written, "members": members, "between": between}
    # By these a run that goes on knows that an item has to be given back first what it had let go of.
    loose = sorted({habits.mark(one) for one in habits.between(before, meant)})
    return {**half, "loose": loose} if loose else half


def is_half(image: Image, half: Json, habits: Habits) -> bool:
    """Whether an item is in a state between, and nobody else's hand can be seen in it."""
    members = half.get("members", {})
    bare, there = habits.mark(habits.less(image, members)), habits.members(image)
    if not any(is_same(bare, mark) for mark in half["bare"]):
        return False
    # What it is called and where it stands is written first, where that has calls of its own.
    is_written = is_same(bare, half.get("written", bare))
    if any(there.get(name, "") not in (values if is_written else values[:1]) for name, values in members.items()):
        return False
    pieces, between = habits.pieces(image), half["between"]
    if not pieces.keys() <= between.keys():
        return False
    return all(set(has_to) <= pieces.get(name, set()) <= set(may) for name, (has_to, may) in between.items())


def _is_one_of(image: Image, habits: Habits, marks: Collection[str]) -> bool:
    """Whether an item is in one of these states, or would be but for what other calls write."""
    there = {habits.mark(one) for one in (image, habits.bare(image))}
    return any(is_same(left, right) for left in there for right in marks if right)


def loose_marks(images: Mapping[Key, Image | None], habits: Habits) -> dict[str, Json]:
    """Marks of some items as they would be if they had let go of each other: equal, however much of that was done."""
    ids = {image.native_id for image in images.values() if image}
    return {key: loose_mark(image, ids, habits) for key, image in images.items() if image}


def loose_mark(image: Image, ids: Collection[str], habits: Habits) -> str:
    """The mark of an item as it would be if it had let go of those with these ids."""
    sheet = habits.sheets[image.kind]
    live, draft = (None if one is None else loosened(one, ids, sheet) for one in (image.live, image.draft))
    # Whether it lets go in a draft or in what is live is the platform's matter.
    newest = live if draft is None else draft
    return habits.mark(replace(image, live=newest, draft=None, states=replace(image.states, is_published=None)))
