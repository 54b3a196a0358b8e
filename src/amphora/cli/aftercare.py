"""aftercare."""

from __future__ import annotations

import getpass
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.work import BreakFlag, DebugFlag, FolderOption, JsonFlag, ProgressOption, WaitOption, Work, working

if TYPE_CHECKING:
    from amphora.engine.aftercare import Asker
    from amphora.ledger.records import Entry


def aftercare(
    what: Annotated[
        str,
        typer.Argument(
            metavar="[RUN|ENV|PACKAGE]", help="Of one run (last for the latest), one environment or one package."
        ),
    ] = "",
    do: Annotated[bool, typer.Option("--do", help="Do what Amphora can: secrets, publishing, switching.")] = False,
    tick: Annotated[
        list[str] | None, typer.Option(metavar="N|all", help="Somebody has done this one, or all that are open.")
    ] = None,
    not_needed: Annotated[
        list[str] | None, typer.Option(metavar="N|all", help="Nobody has to do this one, or any of them.")
    ] = None,
    by: Annotated[str, typer.Option(metavar="NAME", help="Who did it, or says so; else whoever is signed in.")] = "",
    note: Annotated[str, typer.Option(metavar="TEXT", help="A word on it, kept with it.")] = "",
    wait: WaitOption = 0.0,
    break_lock: BreakFlag = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """What is still to do after imports; do it, or tick it off.

    \b
    Examples:
      amphora aftercare
      amphora aftercare grove-live --do
      amphora aftercare --tick 3 --by "Mara Lind" --note "told at the gate"
    """
    from amphora.core.values.errors import NotReady, UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.core.values.once import said_once
    from amphora.engine.aftercare import do_care, open_care, settled_by_looking
    from amphora.engine.aftercare import tick as close
    from amphora.ledger.records import NOT_NEEDED, TICKED
    from amphora.render.aftercare import care_result, done_result, ticked_result

    with working(json, workspace, progress) as work:
        if (tick or not_needed) and do:
            raise UsageFault("--do and --tick are two things.", next_step=to_type("aftercare", "--help"))
        if tick or not_needed:
            name = by or getpass.getuser()
            said = [(number, TICKED) for number in _numbers(work, tick or (), what)]
            said += [(number, NOT_NEEDED) for number in _numbers(work, not_needed or (), what)]
            said_once(((str(number), state) for number, state in said), "states")
            if not said:
                raise NotReady("Nothing is open that could be ticked off.", next_step=to_type("aftercare"))
            both = close(work.session, dict(said), name, note)
            work.show(ticked_result(both, open_care(work.session)), has_changed=True)
            return
        if by or note:
            raise UsageFault("--by and --note belong to --tick or --not-needed.", next_step=to_type("aftercare"))
        still, blind = settled_by_looking(work.session, open_care(work.session, what))
        if not do:
            work.show(care_result(still, blind, what))
            return
        work.be_patient(wait, break_lock)
        cared = do_care(work.session, still, _asker(work))
        if cared.failure:
            raise cared.failure
        work.show(done_result(cared, what), has_changed=True)


def _numbers(work: Work, said: list[str] | tuple[str, ...], what: str) -> list[int]:
    """The numbers that are meant; `all` are those that are open of a run or an environment."""
    from amphora.core.values.digits import is_number
    from amphora.core.values.errors import NotReady, UsageFault
    from amphora.core.values.next_step import to_type
    from amphora.engine.aftercare import open_care

    if list(said) == ["all"]:
        return [entry.number for entry in open_care(work.session, what)]
    if wrong := [one for one in said if not is_number(one)]:
        raise UsageFault(f"{wrong[0]!r} is no number of a task.", subject=wrong[0], next_step=to_type("aftercare"))
    numbers = [int(one) for one in said]
    # Whoever names a target means its tasks: a number that was mistyped would be that of another one.
    if numbers and what:
        mine = {entry.number for entry in open_care(work.session, what)}
        if others := [number for number in numbers if number not in mine]:
            raise NotReady(
                f"Aftercare {others[0]} is not open of {what}.",
                subject=str(others[0]),
                next_step=to_type("aftercare", what),
            )
    return numbers


def _asker(work: Work) -> Asker:
    """Asks for a secret, without showing it; off a terminal it stays open."""
    from amphora.core.values.visible import visible

    def ask(entry: Entry) -> str:
        if not work.is_terminal:
            return ""
        work.progress.stop()
        words = f"{entry.task.words} ({entry.environment}); empty leaves it open"
        return str(typer.prompt(visible(words), default="", show_default=False, hide_input=True, err=True))

    return ask
