"""The plan of an import: the steps of a docket, leg by leg, and the rows that go with them."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from amphora.core.form.spots import requires
from amphora.core.needs.pauses import WORD, legs_of
from amphora.core.plan.actions import Action, Do
from amphora.core.plan.decisions import Decisions
from amphora.core.plan.docket import Docket, Leg, Parting
from amphora.core.plan.order import import_steps, wanted_places
from amphora.core.plan.places import Place, place_of, taken
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, kind_of
from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice
from amphora.engine.sides import Side
from amphora.environments.contract import habits_of
from amphora.files.rows import count_rows


def planned(docket: Docket, side: Side, contents: Contents, said: Decisions, begun: Collection[Key] = ()) -> Docket:
    """The docket with its steps. `begun` is what a run that goes on has done already: it has not got to its pause."""
    description = side.opened.description
    habits = habits_of(description)
    held: dict[Key, Place] = {}
    if description.capabilities.has_unique_names:
        held = {key: place_of(row) for key, row in side.by_key.items()}
    written = [action for action in docket.actions if action.do in (Do.CREATE, Do.UPDATE)]
    wanted = wanted_places(written)
    going = [one.key for one in docket.fated(Parting.RETIRE)]
    rows, filled = _rows(docket, contents, side, said)
    sheets = description.sheets

    def waits(action: Action) -> bool:
        return action.do in (Do.CREATE, Do.UPDATE) or action.key in begun

    legs = legs_of(
        {action.key: action.item for action in docket.actions},
        [action.key for action in docket.by(Do.CREATE)],
        docket.mapped,
        lambda item, need: requires(item.form, sheets.get(item.kind), need),
        # What stays as it is there waits for nothing; what this run has begun to write has yet to get to its pause.
        [action.key for action in docket.actions if action.key in docket.pause_after if waits(action)],
    )
    planned = []
    for number, keys in enumerate(legs.groups):
        is_last = number == len(legs.groups) - 1
        # Made once for a leg: once for each action would be ten thousand times ten thousand keys.
        mine = set(keys)
        steps = import_steps(
            [action for action in docket.actions if action.key in mine],
            docket.retirements if is_last else (),
            habits,
            held=held,
            rows=rows if is_last else {},
            chooses_ids=description.capabilities.keeps_ids,
            is_last=is_last,
        )
        needs = () if is_last else tuple(legs.waits_after(number))
        kinds = dict.fromkeys(kind_of(legs.makers[need]) for need in needs if not need.startswith(WORD))
        who = tuple(words for kind in kinds if kind in sheets and (words := sheets[kind].pause.who))
        planned.append(Leg(keys, tuple(steps), needs, who))
    return replace(
        docket,
        legs=tuple(planned),
        makers=legs.makers,
        bare=legs.bare,
        stuck=legs.stuck,
        taken=tuple(taken(held, wanted, going)),
        records={key: contents.records[key] for key in rows},
        filled=filled,
    )


def _rows(docket: Docket, contents: Contents, side: Side, said: Decisions) -> tuple[dict[Key, int], tuple[Key, ...]]:
    """The tables to fill, with how many rows: those that are new, and those that are there and empty. And those
    that hold rows already, into which nothing is loaded."""
    if not said.records:
        return {}, ()
    if not contents.records or not side.opened.description.capabilities.has_rows:
        where = contents.title if not contents.records else docket.target
        raise UsageFault(
            f"{where} holds no rows of tables.", subject=where, next_step=advice("Leave --with records out.")
        )
    rows, filled = {}, []
    for action in docket.actions:
        if action.key in contents.records and action.key not in docket.left_out:
            # Never into a table with rows: nobody could say afterwards which ones came from where.
            if action.present is None or not action.present.rows:
                rows[action.key] = count_rows(contents.records[action.key])
            else:
                filled.append(action.key)
    return {key: count for key, count in rows.items() if count}, tuple(filled)
