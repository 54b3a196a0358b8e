"""What becomes of a run: done, or put back, kept or broken off. Whatever goes wrong ends in one of them, never in
nobody knows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import field, replace

from amphora.core.plan.fates import Fate
from amphora.core.values.errors import AmphoraError, BrokenOff, EnvironmentRefused, FaultInRun, Interrupted
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NOTHING, NextStep, advice, to_type
from amphora.core.values.words import ended, few
from amphora.engine.old_links import OldLink
from amphora.engine.runs.backwards import Back, foresee, put_back
from amphora.engine.runs.carrier import Stopped
from amphora.engine.runs.remedies import again, before_going_on
from amphora.engine.runs.stage import Stage
from amphora.ledger.records import BROKEN_OFF, KEPT, PAUSED, PUTTING_BACK, Entry, Run

Keeper = Callable[[AmphoraError], bool]
"""Asked when a run has failed: whether what it did is kept."""


@dataclass(frozen=True)
class Outcome:
    """What became of a run. `links` gives, per item, its new address; `failure` what went wrong if the
    run was put back or broke off, `back` what the look after putting back showed; `unverified` why nobody could
    look afterwards at a run that is done; `old_links` the addresses of the source that still stand in what it
    brought; `care` what has to follow, as it stands; `new` the items that were not there when the run began, in
    whichever of its legs they came."""

    run: Run
    links: Mapping[Key, str]
    failure: AmphoraError | None = None
    back: Back | None = None
    loaded: Mapping[Key, int] = field(default_factory=dict)
    unverified: str = ""
    old_links: tuple[OldLink, ...] = ()
    rewritten: tuple[tuple[Key, str], ...] = ()
    """Items and places that the environment holds otherwise than was asked for, more than by adding to it."""
    care: tuple[Entry, ...] = ()
    new: frozenset[Key] = frozenset()


def attempted(
    stage: Stage, run: Run, do: Callable[[], Run], keeper: Keeper, titles: Mapping[Key, str]
) -> Run | Outcome:
    """Does what a run is for: gives the run as it ended, or what became of it where something went wrong. `titles`
    are those of its items, for people."""
    try:
        return do()
    # An interruption is not a failure of the target; it is put back in the same way, and told in other words.
    except Stopped:
        return _failed(stage, run, Interrupted("It was interrupted."), keeper, titles)
    except AmphoraError as error:
        return _failed(stage, run, error, keeper, titles)
    except Exception as error:
        fault = FaultInRun(f"A fault in Amphora: {type(error).__name__}: {error}.")
        fault.__cause__ = error
        return _failed(stage, run, fault, keeper, titles)
    except BaseException:
        # Somebody insists, or the process is going down: no more calls. `undo` looks at what is there.
        with contextlib.suppress(AmphoraError):
            stage.ledger.journal.end(run, BROKEN_OFF, "It was stopped at once.")
        raise


def _failed(stage: Stage, run: Run, error: AmphoraError, keeper: Keeper, titles: Mapping[Key, str]) -> Outcome:
    """Puts back what the run did, or keeps it, and says what that came to."""
    try:
        if keeper(error):
            return _kept(stage, run, error, titles)
    except BaseException:
        # Somebody insisted while being asked, or the target can't be looked at: what there is stays, and is looked at
        # by whoever goes on.
        with contextlib.suppress(AmphoraError):
            stage.ledger.journal.end(run, BROKEN_OFF, error.message)
        raise
    try:
        # Back to the last pause: what went in before that is not its doing.
        back = put_back(stage, run, PUTTING_BACK, error.message, stage.ledger.journal.since_pause(run))
    except AmphoraError as trouble:
        with contextlib.suppress(AmphoraError):
            run = stage.ledger.journal.end(run, BROKEN_OFF, error.message)
        return Outcome(run, {}, _broken_off(run, error, [f"Putting back failed: {trouble.message}"]))
    except BaseException:
        with contextlib.suppress(AmphoraError):
            stage.ledger.journal.end(run, BROKEN_OFF, error.message)
        raise
    run = replace(run, state=back.of_state)
    if back.is_as_before and back.is_recorded:
        return Outcome(run, {}, _explained(run, error, back), back)
    # The next step is `undo` as long as trying again can change anything, and only then.
    after = NOTHING if back.is_open else to_type("resume" if back.of_state == PAUSED else "history", run.name)
    return Outcome(run, {}, _broken_off(run, error, [back.sentence(run.environment), *back.told()], after), back)


def _kept(stage: Stage, run: Run, error: AmphoraError, titles: Mapping[Key, str]) -> Outcome:
    """Stops where it is: what is done stays, and somebody goes on when the cause is mended."""
    run = stage.ledger.journal.end(run, KEPT, error.message)
    restoration = foresee(stage, run)
    done = [titles.get(key, key) for key in restoration.by(Fate.RESTORE)]
    todo = [titles.get(key, key) for key in restoration.by(Fate.NOTHING)]
    details = [f"begun or done: {few(done, 8)}"] if done else ["nothing was done yet"]
    details += [f"not yet begun: {few(todo, 8)}"] if todo else []
    after = advice(before_going_on(error), to_type("resume", run.name))
    kept = BrokenOff(
        f"{run.name} stopped, and what it did is kept: {error.message}",
        subject=error.subject,
        place=error.place,
        details=[*error.details, *details, *restoration.left],
        next_step=after,
    )
    return Outcome(run, {}, kept)


def _broken_off(run: Run, error: AmphoraError, details: list[str], after: NextStep = NOTHING) -> BrokenOff:
    return BrokenOff(
        f"{run.name} broke off: {error.message}",
        subject=error.subject,
        place=error.place,
        details=[*error.details, *details],
        next_step=after or to_type("undo", run.name),
    )


def _explained(run: Run, error: AmphoraError, back: Back) -> AmphoraError:
    """The failure of a run that was put back, with what the look at the target showed."""
    kind = EnvironmentRefused
    if isinstance(error, Interrupted):
        kind = Interrupted  # type: ignore[assignment]
    elif isinstance(error, FaultInRun):
        kind = FaultInRun  # type: ignore[assignment]
    mend = str(error.next_step or again(error)).rstrip(".")
    return kind(
        f"{run.name} failed: {ended(error.message)} {back.sentence(run.environment)}",
        subject=error.subject,
        place=error.place,
        details=[*error.details, *back.told()],
        next_step=advice(before_going_on(error), to_type("resume", run.name))
        if back.of_state == PAUSED
        else advice(f"{mend}; the run is in", to_type("history", run.name)),
    )
