"""Verdicts on runs: those that wait, that went to many targets, that are undone; and where a workspace stands."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.plan.aftercare import Task, told
from amphora.core.values.errors import Interrupted
from amphora.core.values.keys import readable
from amphora.core.values.next_step import NextStep, blank, open_value, to_type
from amphora.core.values.words import counted, few
from amphora.engine.verdicts import BROKEN, COUNTS, INTERRUPTED, PAUSED, REFUSED, Standing, Verdict
from amphora.ledger.records import DONE, IMPORT, OPEN

if TYPE_CHECKING:
    from amphora.engine.record import Told
    from amphora.engine.resume import Standstill
    from amphora.engine.rounds import Came
    from amphora.engine.runs.backwards import Back
    from amphora.ledger.records import Campaign, Run

WAITING = ("paused", "kept")
"""The states of a run that waits for somebody to go on with it."""


def of_rounds(
    title: str, found: Sequence[Came], campaign: str, waiting: Sequence[Standstill] = (), done: Sequence[str] = ()
) -> Verdict:
    """One import into many targets: what came of it, and the command for what remains."""
    bad = [came for came in found if came.is_bad]
    states = [(name, "done") for name in done] + [(came.docket.target, came.state) for came in found]
    states += [(one.run.environment, "paused") for one in waiting]
    is_paused = any(state == "paused" for _, state in states)
    words = []
    for state in dict.fromkeys(state for _, state in states):
        words.append(f"{state} in {few([name for name, mine in states if mine == state], 8)}")
    line = f"{'Stopped' if bad else 'Paused' if is_paused else 'Done'}: {title} is {'; '.join(words)}."
    if all(state in ("done", "nothing to do") for _, state in states) and not bad:
        line = f"Done: {title} is in {few([name for name, _ in states], 8)}."
    line = f"{line.removesuffix('.')} ({campaign})." if campaign else line
    if bad:
        # As it was everywhere: nothing of it is left that somebody would have to know of.
        is_all = all(state in ("put back", "not begun") for _, state in states)
        stopped = any(isinstance(came.trouble, Interrupted) for came in bad)
        code = BROKEN if not is_all else INTERRUPTED if stopped else REFUSED
        return Verdict(line, "bad", to_type("resume", campaign), code)
    if is_paused:
        first = next((one.run.name for one in waiting), campaign)
        return Verdict(line, "warn", to_type("resume", first), PAUSED)
    still = [entry.task for came in found if came.outcome for entry in came.outcome.care if entry.state == OPEN]
    named = [campaign] if campaign else []
    if still:
        return Verdict(f"{line} Still to do: {told(still)}.", "good", to_type("aftercare", *named))
    return Verdict(line, "good", to_type("history", *named))


def of_undo_all(campaign: str, found: Sequence[Back], rest: Sequence[str], stays: Sequence[str] = ()) -> Verdict:
    """A campaign was undone, target by target; `rest` were not begun because one could not be, and in those where it
    `stays` nobody asked for it."""
    whole = [back.of.environment for back in found if back.is_as_before and not back.is_open]
    others = [back.of.environment for back in found if back.of.environment not in whole]
    is_open = any(back.is_open for back in found)
    words = f"{campaign} is {'not undone as a whole' if is_open or rest or stays else 'undone'}:"
    parts = [f"as it was before in {few(whole, 8)}"] if whole else []
    parts += [f"but for what is named below in {few(others, 8)}"] if others else []
    parts += [f"not begun in {few(rest, 8)}"] if rest else []
    parts += [f"still in force in {few(stays, 8)}"] if stays else []
    standing: Standing = "bad" if is_open or rest else "warn" if others else "good"
    after = to_type("undo", campaign) if is_open or rest else to_type("history")
    return Verdict(
        f"{words} {'; '.join(parts)}.", standing, after, BROKEN if is_open or rest else COUNTS if others else 0
    )


def of_standstill(found: Standstill) -> Verdict:
    """A run waits for somebody to set something up by hand."""
    run = found.run
    words = f"Paused: {counted(len(found.done), 'item')} of {run.package} {run.version} in {run.environment},"
    words += f" {len(found.gone):,} no longer there," if found.gone else ""
    words += f" {len(found.still):,} still to come. " if found.still else " not yet complete. "
    names = [row_name(one.need.key) for one in found.waiting]
    words += f"To be made there by hand: {few(names)}. " if names else ""
    words += (
        f"Waits for a word: {few([about or readable(key) for key, about in found.words])}. " if found.words else ""
    )
    words += f"Run {run.name}."
    given = [word for one in found.waiting for word in ("--set", _offered(one))]
    return Verdict(words, "warn", to_type("resume", run.name, *given), PAUSED)


def _offered(mapped: Mapped) -> str:
    """A need with the value that is on offer for it, or with one to be filled in."""
    name = row_name(mapped.need.key)
    return f"{name}={mapped.value}" if mapped.state is MapState.GUESSED else open_value(name)


def of_undo_to_be(run: Run, back: int, left: int) -> Verdict:
    """What undoing a run would put back, and how many items would stay."""
    words = f"Preview, nothing was touched. Undoing {run.name} would put back {counted(back, 'item')}"
    words += f" in {run.environment} and leave {left}, named below." if left else f" in {run.environment}."
    if not back and not left:
        words = f"Preview, nothing was touched. Nothing in {run.environment} would have to be changed to undo"
        words += f" {run.name}: what the ledger remembers of it is all."
    return Verdict(words, "warn" if left else "plain", to_type("undo", run.name))


def of_undo(back: Back) -> Verdict:
    """A run was put back: what can be said of the target is what a look at it showed."""
    is_whole = back.is_as_before and not back.is_open
    words = f"{back.of.name} is {'not undone as a whole' if back.is_open else 'undone'}:"
    standing: Standing = "good" if is_whole else "bad" if back.is_open else "warn"
    after = to_type("undo", back.of.name) if back.is_open else to_type("history")
    if back.care and back.run and not back.is_open:
        after = to_type("aftercare", back.run.name)
    code = 0 if is_whole else BROKEN if back.is_open else COUNTS
    if back.is_idle:
        # "Undone but for 4 items" would be said of a target in which all is as the run left it.
        more = "more " if back.of.returned else ""
        stay = counted(len(back.left), "item stays as it is", "items stay as they are")
        return Verdict(f"Nothing {more}of {back.of.name} was put back: {stay} now.", standing, after, code)
    return Verdict(f"{words} {back.sentence(back.of.environment)}", standing, after, code)


def of_run(run: Run) -> NextStep:
    """What to do next about a run."""
    if run.is_open:
        can_go_on = run.state in WAITING and not run.is_being_put_back
        return to_type("resume" if can_go_on else "undo", run.name)
    if run.state == "done":
        # Of what put something back, or cared for it, nothing is left that could be verified by itself.
        return to_type("verify", run.name) if run.kind == IMPORT else to_type("history")
    return to_type("compare", f"{run.package}-{run.version}", run.environment)


def of_campaign(campaign: Campaign, runs: Sequence[Run]) -> NextStep:
    """What to do next about an import into many targets, of which these are the runs."""
    for run in runs:
        if run.is_being_put_back:
            return of_run(run)
    if campaign.state == OPEN:
        return to_type("resume", campaign.name)
    if campaign.state == DONE:
        return to_type("verify", campaign.package, *campaign.targets)
    return to_type("compare", f"{campaign.package}-{campaign.version}", *campaign.targets)


def of_told(told: Told) -> NextStep:
    """What to do next about a run whose aftercare is known."""
    return to_type("aftercare", told.run.name) if told.still and not told.run.is_open else of_run(told.run)


def of_tolds(tolds: Sequence[Told]) -> NextStep:
    """What to do next about several runs, the latest first: what is open comes first."""
    waiting = [one for one in tolds if one.run.is_open] or [one for one in tolds if one.still]
    return of_told(waiting[0]) if waiting else to_type("history", tolds[0].run.name)


def of_workspace(
    environments: Sequence[str],
    packages: Sequence[str],
    runs: Sequence[Run],
    many: Sequence[Campaign] = (),
    still: Sequence[Task] = (),
) -> Verdict:
    """Where a workspace stands; `still` is what is to be done after imports."""
    unsettled = [run for run in runs if run.is_open]
    tail = f" Still to do: {told(still)}." if still else ""
    if many:
        # It takes up the runs that are part of it.
        words = f"{few([campaign.name for campaign in many])} {'is' if len(many) == 1 else 'are'} not finished."
        mine = [run for run in runs if run.campaign == many[0].name]
        return Verdict(words + tail, "warn", of_campaign(many[0], mine))
    if unsettled:
        words = f"{counted(len(unsettled), 'run')} {'is' if len(unsettled) == 1 else 'are'} not finished."
        return Verdict(words + tail, "warn", of_run(unsettled[0]))
    if still:
        return Verdict(tail.strip(), "warn", to_type("aftercare"))
    if not environments:
        return Verdict(
            "Nothing is open. No environment yet.", "good", to_type("env", "add", blank("NAME"), blank("LOCATION"))
        )
    if not packages:
        return Verdict("Nothing is open. No package yet.", "good", to_type("survey", environments[0]))
    return Verdict("Nothing is open.", "good", to_type("peek", packages[-1]))
