"""Fates: what becomes of an item that a run touched when the run is put back, by what is known of it."""

from __future__ import annotations

from enum import StrEnum
from typing import Final

from amphora.core.plan.states import ABSENT, Habits, Image, is_same
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.words import counted, few

SEEN_OTHERWISE: Final = (
    "its kind sheet sees it otherwise than then, so that nobody can tell whether it is as the run left it"
)
"""Why what was written down of an item by another kind sheet says nothing of what is there."""


class Fate(StrEnum):
    """What putting back does with one item."""

    NOTHING = "nothing to do"
    RESTORE = "put back"
    LEFT = "left"


@dataclass(frozen=True)
class Evidence:
    """What is known of one item that a run touched.

    `before` is its state when the run began, `now` the one found by looking. `ours` are the marks of all states
    that our own runs meant or left, `last` those in which the latest of them can have left it. `is_retired_by_us`
    tells that a step of ours was to remove it, `is_made_by_us` that one was to make it, `is_filled_by_us` that
    its rows were loaded or removed by one; `row_counts` is how many rows such steps left in it. `is_surely_ours`:
    a step of which no outcome is known was the last to change it, as account and time show. `rows_in_doubt`: how
    many rows a loading was to leave whose outcome nobody knows. `doubt` says why nobody can tell (a lost creation
    with several candidates). `is_turned`: it is one of the environment's own connections by now, and no item.
    `is_theirs`: it is as somebody had left it when a later import of ours, or leg of it, found it.
    """

    key: Key
    before: Image | None
    now: Image | None
    ours: frozenset[str] = frozenset()
    last: frozenset[str] = frozenset()
    account: str = ""
    is_retired_by_us: bool = False
    is_made_by_us: bool = False
    is_filled_by_us: bool = False
    row_counts: frozenset[int] = frozenset({0})
    is_surely_ours: bool = False
    rows_in_doubt: int = 0
    doubt: str = ""
    is_turned: bool = False
    is_theirs: bool = False

    @property
    def title(self) -> str:
        """The item as a person would call it."""
        image = self.now or self.before
        return image.states.title if image else readable(self.key)

    @property
    def is_renamed(self) -> bool:
        """Whether it is there, and called otherwise than before."""
        return bool(self.before and self.now and self.before.states.title != self.now.states.title)

    @property
    def counts_rows(self) -> bool:
        """Whether the number of rows says whose state this is."""
        return self.is_made_by_us or self.is_retired_by_us or self.is_filled_by_us


@dataclass(frozen=True)
class Verdict:
    """What happens to one item, and why. `note` names what nobody has to do anything about; unsettled is what
    another attempt may settle, once the reason is out of the way."""

    fate: Fate
    reason: str = ""
    note: str = ""
    is_unsettled: bool = False


def is_half_way(one: Evidence, habits: Habits) -> bool:
    """Whether an item is ours in a state that no step of ours meant or left: in the middle of a change."""
    now = habits.mark(one.now)
    return one.is_surely_ours and not any(is_same(now, mark) for mark in (*one.ours, habits.mark(one.before)))


def judged(one: Evidence, habits: Habits) -> Verdict:
    """The row of the plan's table (section 2) that an item is in."""
    before, now = habits.mark(one.before), habits.mark(one.now)
    # Doubt comes before everything else: with several candidates even "it is as it was" would be a guess.
    if one.doubt:
        return Verdict(Fate.LEFT, one.doubt, is_unsettled=True)
    if one.is_turned:
        return Verdict(Fate.LEFT, "it is a connection of the environment's own by now, and stays one")
    if is_same(before, now, one.counts_rows):
        # Nothing to do and yet worth a word: whoever reads "as it was before" may have counted on the item.
        is_gone = one.is_made_by_us and one.now is None and not one.is_retired_by_us
        return Verdict(
            Fate.NOTHING, note=f"{one.key} was made by the run, and somebody deleted it" if is_gone else ""
        )
    if now == ABSENT:
        # Whoever deletes what we deleted can not be told from us; making it again harms nobody, losing it might.
        if one.is_retired_by_us:
            return Verdict(Fate.RESTORE)
        if one.before and habits.is_seen_otherwise(one.before.kind):
            return Verdict(Fate.LEFT, SEEN_OTHERWISE)
        return Verdict(Fate.LEFT, "somebody deleted it meanwhile")
    # Said beforehand, and not found out by the look afterwards: no step takes rows out again.
    stay = _rows_that_stay(one)
    if stay and is_same(before, now):
        return Verdict(Fate.LEFT, f"nothing takes {stay:,} loaded rows out of a table that was there before")
    who = one.now.modified_by if one.now else None
    # Somebody else may have brought it into a state that was ours on the way: where a person is known, only the
    # states count in which we can have left it.
    mine = one.ours if who in (None, one.account) else one.last
    if any(is_same(now, mark) for mark in mine) or one.is_surely_ours:
        # Apart from the state: an update in between has seen rows that people entered, and they are theirs still.
        if one.counts_rows and not _are_our_rows(one, habits):
            held = one.now.rows or 0 if one.now else 0
            return Verdict(Fate.LEFT, f"it holds {counted(held, 'row')} by now, not those that were loaded")
        # Asked about before it was done; trying it again would change nothing.
        if _is_published_for_good(one, habits):
            return Verdict(Fate.LEFT, "it was published for good: nothing takes a live version back there")
        loaded = f"{counted(stay, 'row')} that {'was' if stay == 1 else 'were'} loaded"
        return Verdict(Fate.RESTORE, note=f"{loaded}, left in {one.title!r}" if stay else "")
    if one.now and (unread := habits.no_longer_read(one.now.kind)):
        words = (
            f"{few(sorted(unread))} is no longer read there, so that nobody can tell whether it is as the run left it"
        )
        return Verdict(Fate.LEFT, words)
    if one.now and habits.is_seen_otherwise(one.now.kind):
        return Verdict(Fate.LEFT, SEEN_OTHERWISE)
    if one.is_theirs:
        # Who wrote it last is us: when we put it back.
        return Verdict(Fate.LEFT, "it holds what somebody had changed before more was imported")
    when = f" at {one.now.modified_at}" if one.now and one.now.modified_at else ""
    return Verdict(Fate.LEFT, f"{who or 'somebody'} changed it meanwhile{when}")


def _is_published_for_good(one: Evidence, habits: Habits) -> bool:
    was_live, is_live = (image is not None and image.live is not None for image in (one.before, one.now))
    is_draft = one.before is not None and habits.drafts(one.before.kind)
    return is_draft and is_live and not was_live and not habits.takes_back


def _are_our_rows(one: Evidence, habits: Habits) -> bool:
    """Whether an item holds as many rows as a step of ours left, or first pieces of those that one was loading."""
    held = one.now.rows or 0 if one.now else 0
    is_half_loaded = habits.loads_in_pieces and one.is_made_by_us and held <= one.rows_in_doubt
    return is_half_loaded or held in one.row_counts


def _rows_that_stay(one: Evidence) -> int:
    """How many rows more than before a table holds that was there before."""
    if one.before is None or one.now is None or not one.counts_rows:
        return 0
    return max(0, (one.now.rows or 0) - (one.before.rows or 0))
