"""Items that their environment changes, or removes, only while they are off: steps of their own switch them off
before, and on again after, so that the docket tells it and whatever breaks off in between is put back like anything
else."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from amphora.core.plan.states import Habits
from amphora.core.plan.steps import Complete, EnterSecret, Grant, Move, RetireSet, Step, Switch, Update
from amphora.core.values.keys import Key, kind_of

CHANGES = (Update, Complete, Grant, EnterSecret, Move)


def at_rest(steps: Sequence[Step], on: Collection[Key], habits: Habits) -> list[Step]:
    """The same steps, with those that a resting item needs around them; `on` are the items that are on before."""
    if not habits.rests:
        return list(steps)
    changed = {
        key for step in steps if isinstance(step, CHANGES) for key in step.keys if _rests(key, "write", habits)
    }
    # On again right after the last step on it: people miss it no longer than they have to.
    last = {key: number for number, step in enumerate(steps) for key in step.keys if not isinstance(step, RetireSet)}
    resting, result = set[Key](), list[Step]()
    for number, step in enumerate(steps):
        if isinstance(step, RetireSet):
            going = [key for key in step.keys if key in on and _rests(key, "retire", habits)]
            result += [Switch((key,), False) for key in going]
        elif isinstance(step, CHANGES):
            for key in step.keys:
                if key in on and key in changed and key not in resting:
                    result.append(Switch((key,), False))
                    resting.add(key)
        if isinstance(step, Switch) and step.key in resting:
            # It is off already; whether it is to be on in the end is what the plan itself says.
            resting.discard(step.key)
            result += [step] if step.is_on else []
            continue
        result.append(step)
        for key in (key for key in step.keys if key in resting and last[key] == number):
            result.append(Switch((key,), True))
            resting.discard(key)
    return result


def resting_in(steps: Iterable[Step]) -> list[Key]:
    """The items that are switched off for a while and on again."""
    off, found = set[Key](), dict[Key, None]()
    for step in steps:
        if isinstance(step, Switch):
            if step.is_on and step.key in off:
                found[step.key] = None
            off |= set() if step.is_on else {step.key}
    return list(found)


def _rests(key: Key, what: str, habits: Habits) -> bool:
    return (what, kind_of(key)) in habits.rests
