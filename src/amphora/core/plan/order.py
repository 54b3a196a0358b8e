"""From a docket's actions to its steps: what before what."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from amphora.core.plan.actions import Action, Do
from amphora.core.plan.docket import Parting, Retirement, order_of
from amphora.core.plan.places import Place, moves_first, new_place
from amphora.core.plan.rests import at_rest
from amphora.core.plan.states import Habits
from amphora.core.plan.steps import (
    Complete,
    Create,
    CreateBare,
    Grant,
    LoadRows,
    Publish,
    RetireSet,
    Step,
    Switch,
    Update,
    WriteAll,
)
from amphora.core.values.keys import Key


def import_steps(
    actions: Sequence[Action],
    retirements: Iterable[Retirement],
    habits: Habits,
    *,
    held: Mapping[Key, Place] | None = None,
    rows: Mapping[Key, int] | None = None,
    chooses_ids: bool = False,
    is_last: bool = True,
) -> list[Step]:
    """The steps of an import. Places are freed first, then everything is written, used before user; items that
    refer to each other (or to themselves) are created bare and completed once all of them are there. Loading
    rows, publishing and switching follow when everything is written; what is hardest to put back, retiring,
    comes last of all. `held` are the places of all items of the target where names are unique, `rows` the
    tables to fill with how many rows. Before the last leg nothing is switched on: it would work with half of it."""
    written = {action.key: action for action in actions if action.do in (Do.CREATE, Do.UPDATE)}
    retirements = list(retirements)
    # Items that merely lose their claim stay where they are: that is a matter of the ledger, and no step.
    gone = tuple(one.key for one in retirements if one.fate is Parting.RETIRE)
    # As one set: items that use each other can go together, and none of them alone.
    last: list[Step] = [RetireSet(gone)] if gone else []
    order = order_of([action.item for action in written.values()])
    if habits.is_atomic:
        # One write for all: such an environment checks references only once it has everything.
        keys = tuple(key for group in order for key in group)
        return [*([WriteAll(keys)] if keys else []), *last]
    steps: list[Step] = list(moves_first(held or {}, wanted_places(written.values()), gone))
    # Last of what is written, people are let in: nobody is to find the half of it.
    granted = _granted(order, written, habits)
    for group in order:
        steps += _group_steps([key for key in group if key not in granted], written, chooses_ids)
    for key in (key for group in order for key in group if key not in granted):
        # Rows before states: what is switched on may begin to read them at once. By the plan and not by the table's
        # emptiness now: whether it may be loaded was decided when the docket was made.
        if rows and key in rows:
            steps.append(LoadRows((key,), rows[key]))
        steps += _state_steps(written[key], habits, is_last)
    for key in granted:
        steps += [Grant((key,))] if _is_written(written[key]) else []
        steps += _state_steps(written[key], habits, is_last)
    # Tables that are there, empty, and otherwise as they should be, are filled all the same.
    steps += [LoadRows((key,), count) for key, count in (rows or {}).items() if key not in written]
    there = {action.key: action.present for action in written.values()}
    there |= {one.key: one.present for one in retirements}
    on = {key for key, listed in there.items() if listed and listed.states.is_on}
    return at_rest([*steps, *last], on, habits)


def wanted_places(actions: Iterable[Action]) -> dict[Key, Place]:
    """Where each item will be: an item that is there keeps its name and may change its folder."""
    found = {}
    for action in actions:
        # The name that it has there counts, not the one in the key: somebody may have renamed it, and it stays the
        # same item.
        segments = action.present.segments if action.present else ()
        place = new_place(action.key, action.states)
        found[action.key] = (*place[:2], segments[-1]) if segments else place
    return found


def _granted(order: Iterable[Collection[Key]], actions: Mapping[Key, Action], habits: Habits) -> list[Key]:
    """The items that give access and that nothing else of the docket needs to be there, in this order."""
    used = {used for key, action in actions.items() for used in action.item.uses() if used != key}
    ruling = {kind for kind, sheet in habits.sheets.items() if sheet.is_access}
    found = [key for group in order for key in group if actions[key].item.kind in ruling and key not in used]
    # One that names itself is made bare first, like everything of that sort.
    return [key for key in found if not actions[key].is_self_using]


def _is_written(action: Action) -> bool:
    return action.do is Do.CREATE or action.is_form_changed


def _group_steps(group: Collection[Key], actions: Mapping[Key, Action], chooses_ids: bool) -> Iterable[Step]:
    created = [key for key in group if actions[key].do is Do.CREATE]
    # All but one: each bare creation costs a second write, and the last one has everything there that it needs.
    bare = created[:-1]
    # The last of a circle finds all others there; alone, it can only lack itself.
    if created and actions[created[-1]].is_self_using and not chooses_ids:
        bare = created
    for position, key in enumerate(bare):
        yield CreateBare((key,), tuple(created[position:]))
    for key in created[len(bare) :]:
        yield Create((key,))
    for key in bare:
        yield Complete((key,))
    # Updates after the creations of their circle: they may refer to what has just been made.
    for key in group:
        if actions[key].do is Do.UPDATE and actions[key].is_form_changed:
            yield Update((key,))


def _state_steps(action: Action, habits: Habits, is_last: bool) -> Iterable[Step]:
    present = action.present.states if action.present else None
    # Published again only where there is something new to publish: an empty publication shows up in every history.
    is_new = action.is_form_changed or action.is_draft_ours
    if action.states.is_published and (is_new or not (present and present.is_published)):
        yield Publish((action.key,))
    if habits.writes_states or action.states.is_on is None:
        return
    # New items begin switched off; whether they shall be on is a step of its own, after all that they use is there.
    if is_last and action.states.is_on != bool(present and present.is_on):
        yield Switch((action.key,), bool(action.states.is_on))
