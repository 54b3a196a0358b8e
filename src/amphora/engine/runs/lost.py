"""Lost answers: what became of a creation that nobody heard of again? Only the target can say."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import replace

from amphora.core.form.hollow import loosened
from amphora.core.form.kinds import KindSheet
from amphora.core.plan.states import Habits, Image, is_same, mark_of
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.environments.contract import Environment, RemembersTokens


@dataclass(frozen=True)
class Search:
    """What was found of a creation whose answer is unknown. `doubt` says why nobody can tell; `is_as_meant` that it
    was known by what it holds, all of it or what its first call makes."""

    image: Image | None = None
    doubt: str = ""
    is_as_meant: bool = False


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
    # The surest first: an id of our own choice can be nobody else's.
    if chosen:
        return Search(environment.look([chosen]).get(chosen))
    # What the environment says of a token is certain both ways, so that nothing has to be guessed.
    if isinstance(environment, RemembersTokens):
        written = environment.answered(f"{intent['token']}/{key}")
        return Search(environment.look([written.native_id]).get(written.native_id) if written else None)
    place = intent.get("places", {}).get(key)
    rows = [
        row
        for row in environment.index()
        if row.native_id not in before
        and [row.kind, row.states.folder, row.segments[-1] if row.segments else row.states.title] == place
    ]
    images = environment.look([row.native_id for row in rows])
    meant = {intent["meant"].get(key, ""), intent.get("bare", {}).get(key, "")}
    as_meant = [
        image
        for image in images.values()
        if image.modified_by in (None, account) and (_is_one_of(image, habits, meant) or holds(image))
    ]
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


def _is_one_of(image: Image, habits: Habits, marks: Collection[str]) -> bool:
    """Whether an item is in one of these states, or would be but for what other calls write."""
    there = {mark_of(one, habits.sheets) for one in (image, habits.bare(image))}
    return any(is_same(left, right) for left in there for right in marks if right)


def loose_marks(images: Mapping[Key, Image | None], sheets: Mapping[str, KindSheet]) -> dict[str, Json]:
    """Marks of some items as they would be if they had let go of each other: equal, however much of that was done."""
    ids = {image.native_id for image in images.values() if image}
    return {key: loose_mark(image, ids, sheets) for key, image in images.items() if image}


def loose_mark(image: Image, ids: Collection[str], sheets: Mapping[str, KindSheet]) -> str:
    """The mark of an item as it would be if it had let go of those with these ids."""
    sheet = sheets[image.kind]
    live, draft = (None if one is None else loosened(one, ids, sheet) for one in (image.live, image.draft))
    # Whether it lets go in a draft or in what is live is the platform's matter.
    newest = live if draft is None else draft
    return mark_of(replace(image, live=newest, draft=None, states=replace(image.states, is_published=None)), sheets)
