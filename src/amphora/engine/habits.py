"""What an environment makes of what is written there: learned right after a run, so that it counts as promised."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from amphora.core.form.filled import Filled, filled_in, stayed
from amphora.core.values.keys import Key
from amphora.core.values.pointers import parse_pointer
from amphora.core.values.tokens import is_secret
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Opened, Session
from amphora.engine.sides import form_of
from amphora.engine.verify import Look
from amphora.environments.contract import ByDescription, Environment
from amphora.ledger.records import Run


def learn(session: Session, opened: Opened, run: Run, look: Look) -> dict[Key, list[Filled]]:
    """What stands in the target otherwise than a run wrote it, remembered with its deliveries. Only of items that are
    as the run's last step left them: whatever somebody did since is theirs."""
    if not opened.description.capabilities.fills_in:
        return {}
    off = {one.key for one in look.verified if one.is_there and one.differences}
    left = {
        key: mark
        for step in session.ledger.journal.steps(run)
        for key, mark in ((step.outcome or {}).get("left") or {}).items()
    }
    promised = {d.key: d for d in session.ledger.delivered(run) if d.key in off and d.key in left}
    images = opened.environment.look([d.native_id for d in promised.values()])
    before = session.ledger.journal.touched(run)
    found: dict[Key, list[Filled]] = {}
    habits = stage_of(session, opened.name, run).habits
    for key, delivery in promised.items():
        image = images.get(delivery.native_id)
        if image is None or habits.mark(image) != left[key]:
            continue
        some = filled_in(delivery.merged, look.items[key].form)
        if was := before.get(key):
            form = form_of(look.side, replace(delivery.base, _form=delivery.merged), key, was.newest)
            # What was not taken is no habit: it is not as promised.
            ignored = _ignored(opened.environment, image.kind, stayed(some, form))
            some = [one for one in some if one.at not in ignored]
        if some:
            # What was known still holds, unless it is another thing now: the look took it back before this one.
            known = [one for one in look.side.filled.get(key, ()) if one.at not in {new.at for new in some}]
            found[key] = [*known, *some]
    if found:
        session.ledger.learn(run, found)
    return found


def _ignored(environment: Environment, kind: str, stayed: Sequence[Filled]) -> set[str]:
    """The places where a change came to nothing, by what is as it was there. What was left out may have returned to
    its default, but for where it is taken away by name, or by a call of its own."""
    told = environment if isinstance(environment, ByDescription) else None
    named, own = (told.names_gone(kind), told.own_calls(kind)) if told else (False, frozenset[str]())
    return {one.at for one in stayed if not one.is_added or named or parse_pointer(one.at)[0] in own}


def rewritten(filled: dict[Key, list[Filled]]) -> tuple[tuple[Key, str], ...]:
    """The places that hold something else than was asked for: what was only added is nobody's loss, and what is lost
    is told as not as promised."""
    # A secret that is still to be entered is a task, and told as one.
    return tuple(
        (key, one.at)
        for key, some in sorted(filled.items())
        for one in some
        if not one.is_added and not one.is_lost and not is_secret(one.asked)
    )
