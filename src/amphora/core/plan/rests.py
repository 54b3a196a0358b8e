"""Off before a change: what is to be off in the end, and for the while what its environment changes, or removes, only
while it is off. Steps of their own switch that off before, and on again after, so that the docket tells it and
whatever breaks off in between is put back like anything else."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from amphora.core.plan.states import Habits
from amphora.core.plan.steps import Complete, EnterSecret, Grant, Move, RetireSet, Step, Switch, Update
from amphora.core.values.keys import Key, kind_of

CHANGES = (Update, Complete, Grant, EnterSecret, Move)


def at_rest(steps: Sequence[Step], on: Collection[Key], habits: Habits) -> list[Step]:
    """The same steps, with those that a resting item needs around them; `on` are the items that are on before."""
    steps = _off_first(steps)
    if not habits.rests:
        return steps
    on = set(on)
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
        on -= {step.key} if isinstance(step, Switch) and not step.is_on else set()
        result.append(step)
        for key in (key for key in step.keys if key in resting and last[key] == number):
            result.append(Switch((key,), True))
            resting.discard(key)
    return result


def _off_first(steps: Sequence[Step]) -> list[Step]:
    """The same steps, in which what is to be off in the end is switched off before it is changed: nothing runs half
    changed, and what an environment does to items that are on it doesn't do to these. What is published is switched
    afterwards: publishing may switch it on."""
    off = {step.key: step for step in steps if isinstance(step, Switch) and not step.is_on}
    alone = {key for step in steps if not isinstance(step, (*CHANGES, Switch, RetireSet)) for key in step.keys}
    early = off.keys() - alone
    waiting, result = set(early), list[Step]()
    for step in steps:
        if isinstance(step, CHANGES):
            result += [off[key] for key in step.keys if key in waiting]
            waiting -= {*step.keys}
        if isinstance(step, Switch) and not step.is_on and step.key in early - waiting:
            continue
        result.append(step)
        waiting -= {step.key} if isinstance(step, Switch) else set()
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
