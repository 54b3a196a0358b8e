"""What an environment makes of what is written there: learned right after a run, so that it counts as promised."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from amphora.core.form.filled import Filled, Learned, filled_in, kept_entries, stayed
from amphora.core.values.keys import Key
from amphora.core.values.pointers import parse_pointer
from amphora.core.values.tokens import is_secret
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Opened, Session
from amphora.engine.sides import form_of
from amphora.engine.verify import Look
from amphora.environments.contract import ByDescription, Environment
from amphora.ledger.records import Run


def learn(session: Session, opened: Opened, run: Run, look: Look) -> dict[Key, Learned]:
    """What stands in the target otherwise than a run wrote it, remembered with its deliveries. Only of items that are
    as the run's last step left them: whatever somebody did since is theirs."""
    if not opened.description.capabilities.fills_in:
        return {}
    off = {one.key for one in look.verified if one.is_there and one.differences}
    left = session.ledger.journal.left(run)
    promised = {d.key: d for d in session.ledger.delivered(run) if d.key in off and d.key in left}
    images = opened.environment.look([d.native_id for d in promised.values()])
    before = session.ledger.journal.touched(run)
    found: dict[Key, Learned] = {}
    # Against what really stands there: with what was known already taken back, the same habit with something else
    # written would look like another one.
    bare = replace(look.side, filled={}, untaken={})
    habits = stage_of(session, opened.name, run).habits
    for key, delivery in promised.items():
        image = images.get(delivery.native_id)
        if image is None or habits.mark(image) != left[key]:
            continue
        places, asked = opened.description.sheets[image.kind].places, replace(delivery.base, _form=delivery.merged)
        form = form_of(bare, asked, key, image.draft if image.live is None else image.live)
        some = filled_in(delivery.merged, form, places)
        if was := before.get(key):
            new = [one for one in some if one not in look.side.filled.get(key, ())]
            # What was not taken is no habit: it is not as promised, and nobody's edit all the same.
            ignored = _ignored(
                opened.environment, image.kind, stayed(new, form_of(bare, asked, key, was.newest), places)
            )
            # With what is known of the platform taken back: an entry that it adds to each list was never asked for.
            was_asked = form_of(look.side, asked, key, was.newest)
            ignored |= {one.at for one in kept_entries(new, was_asked, places)}
            some = [replace(one, has_stayed=one.at in ignored) for one in some]
        if some:
            found[key] = Learned(tuple(some), form)
    if found:
        session.ledger.learn(run, {key: one.filled for key, one in found.items()})
    return found


def _ignored(environment: Environment, kind: str, stayed: Sequence[Filled]) -> set[str]:
    """The places where a change came to nothing, by what is as it was there. What was left out may have returned to
    its default, but for where it is taken away by name, or by a call of its own."""
    told = environment if isinstance(environment, ByDescription) else None
    named, own = (told.names_gone(kind), told.own_calls(kind)) if told else (False, frozenset[str]())
    return {one.at for one in stayed if not one.is_added or named or parse_pointer(one.at)[0] in own}


def rewritten(learned: Mapping[Key, Learned]) -> tuple[tuple[Key, str], ...]:
    """The places that hold something else than was asked for: what was only added is nobody's loss, and what is lost
    is told as not as promised."""
    # A secret that is still to be entered is a task, and told as one.
    return tuple(
        (key, one.at)
        for key, some in sorted(learned.items())
        for one in some.filled
        if not one.is_added and not one.is_untaken and not is_secret(one.asked)
    )
