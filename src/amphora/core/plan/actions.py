"""Actions: what an import does to one item, and why."""

from __future__ import annotations

from enum import StrEnum

from amphora.core.merge.compare import STATE, Comparison
from amphora.core.merge.merge import TARGET, By, FieldChange
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item, Json, Listed, States


class Do(StrEnum):
    """What happens to one item."""

    CREATE = "create"
    UPDATE = "update"
    LEAVE = "leave"
    RETIRE = "retire"


AS_DECIDED = "left as it is, as decided"
SAME = "the same"
MENDED = "changed only in the target"
REWRITTEN = "names what is called otherwise from now on"
"""Reasons that more than one place has to know."""


@dataclass(frozen=True)
class Action:
    """One item's line: what is done, why, and the portable form and states that result.

    `present` is the target's index row where the item is there already, `item` the package's item. `is_draft_ours`
    tells that what lies unpublished there was written by the run that goes on, and has yet to go live.
    """

    key: Key
    do: Do
    reason: str
    item: Item
    form: Json
    states: States
    present: Listed | None = None
    comparison: Comparison | None = None
    is_draft_ours: bool = False
    is_rewritten: bool = False
    """Whether it is written only because something that it names by its title gets another one."""

    @property
    def is_decided(self) -> bool:
        """Whether somebody has chosen anything in it."""
        return any(change.choice is not None for change in (self.comparison.changes if self.comparison else ()))

    @property
    def is_mixed(self) -> bool:
        """Whether something of it stays as the target has it, or becomes what somebody typed in."""
        changes = self.comparison.changes if self.comparison else ()
        return any(change.choice is not None or not moves(change) for change in changes)

    @property
    def as_it_will_be(self) -> Item:
        """The item as it will be there; the package's own where nothing else is mixed into it."""
        return Item(self.key, self.item.schema, self.form, self.states) if self.is_mixed else self.item

    @property
    def needs(self) -> set[Key]:
        """What it uses that the target has to supply."""
        used = {token.key for _, token in self.as_it_will_be.tokens if token.is_need}
        if self.comparison and self.comparison.open:
            # Nobody has decided yet whether the package's side goes in.
            used |= {token.key for _, token in self.item.tokens if token.is_need}
        return used

    @property
    def to_lay(self) -> Json:
        """The layout that is laid over the target's: what the package moved, or all of it where nothing is there."""
        # A creation has nothing to be compared with: all of it is laid.
        return self.comparison.layout if self.comparison else self.item.layout

    @property
    def laid(self) -> Json:
        """The layout that counts as laid from now on: the one before, where nothing had to be written, for then it
        was not laid either."""
        compared = self.comparison
        return compared.was_laid if compared and not self.is_form_changed else self.item.layout

    @property
    def is_self_using(self) -> bool:
        """Whether it refers to itself: where ids are given on creation, that can only follow."""
        return any(token.key == self.key for _, token in self.item.tokens)

    @property
    def is_form_changed(self) -> bool:
        """Whether the definition, title or folder has to be written."""
        if self.do is Do.CREATE:
            return True
        changes = self.comparison.changes if self.comparison else ()
        return self.is_rewritten or any(moves(change) and _is_written(change.place) for change in changes)


def _is_written(place: str) -> bool:
    """Whether a place is part of what a write carries: of the states only title and folder are, and questions
    about a whole item are about no place at all."""
    return not place.startswith(STATE) or place in (STATE + "title", STATE + "folder")


def decide(comparison: Comparison, item: Item, present: Listed, title: str, is_draft_ours: bool = False) -> Action:
    """The action for an item that is in the target already."""
    changes = comparison.changes
    moving = [change for change in changes if moves(change)]
    if moving:
        # Ordered by what has to be explained most: nothing surprises more than something differing that nobody
        # delivered.
        by = {change.by for change in moving}
        reason = "changed in the crosswalk" if by == {By.CROSSWALK} else f"changed in {title}"
        # Over everything else: it is the one case in which nobody can say whose work would be lost.
        if By.UNKNOWN in by:
            reason = "differs, and was not delivered by Amphora"
        # Nothing of the package moves: somebody chose to undo what was edited there.
        if by <= {By.TARGET}:
            reason = "put back to what was delivered, as decided"
        do = Do.UPDATE
    elif is_draft_ours:
        do = Do.UPDATE
        reason = "written, and not yet live"
    elif comparison.states.is_on and present.states.is_on is False:
        do = Do.UPDATE
        reason = "off for its change, and not yet on again"
    else:
        do = Do.LEAVE
        reason = SAME if not changes else MENDED
        if any(isinstance(change.choice, str) and change.choice == TARGET for change in changes):
            reason = AS_DECIDED
    form, states = comparison.form, comparison.states
    return Action(item.key, do, reason, item, form, states, present, comparison, is_draft_ours)


def moves(change: FieldChange) -> bool:
    """Whether a change alters the target: by its choice, or else because the package or crosswalk made it."""
    if change.choice is not None:
        # A choice may also be a value that somebody typed in, which moves in any case.
        return not (isinstance(change.choice, str) and change.choice == TARGET)
    # What both sides changed alike is there already.
    return change.by not in (By.TARGET, By.BOTH)
