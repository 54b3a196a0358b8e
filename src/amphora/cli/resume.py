"""resume."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.work import (
    BreakFlag,
    DebugFlag,
    FolderOption,
    JsonFlag,
    ProgressOption,
    WaitOption,
    Work,
    working,
)

if TYPE_CHECKING:
    from amphora.engine.resume import PickedUp
    from amphora.ledger.records import Run


def resume(
    run: Annotated[
        str,
        typer.Argument(help="A run that waits, or an import into many; left out, the only one."),
    ] = "",
    values: Annotated[
        list[str] | None, typer.Option("--set", metavar="NAME=VALUE", help="What was made, for a need that waited.")
    ] = None,
    choose: Annotated[
        list[str] | None,
        typer.Option("--choose", metavar="ITEM=CHOICE", help="Decide on an item that somebody changed meanwhile."),
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be done.")] = False,
    wait: WaitOption = 0.0,
    break_lock: BreakFlag = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Go on with an import that paused or was cut off.

    \b
    Examples:
      amphora resume
      amphora resume grove-live-3 --set lab-mailbox=lab-mailbox-live
      amphora resume grove-live-3 --preview
      amphora resume many-2
    """
    from amphora.cli.campaign import go_on_with_many
    from amphora.cli.typed import retyped
    from amphora.engine.campaign import campaign_to_resume
    from amphora.engine.resume import run_to_resume

    with working(json, workspace, progress) as work:
        work.be_patient(wait, break_lock)
        if campaign := campaign_to_resume(work.session, run):
            go_on_with_many(work, campaign, bool(values or choose), preview)
            return
        found = run_to_resume(work.session, run)
        go_on_with(work, found, values or (), choose or (), preview, retyped())


def go_on_with(
    work: Work,
    run: Run,
    values: Sequence[str] = (),
    choose: Sequence[str] = (),
    preview: bool = False,
    words: tuple[tuple[str, ...], ...] = (),
) -> None:
    """Goes on with a run, or says what it still waits for. `words` is how it was asked for."""
    from amphora.engine.resume import picked_up, standstill, waiting_for
    from amphora.render.resume import standstill_result

    with picked_up(work.session, run) as picked:
        _map(work, picked, list(values), preview)
        if waiting_for(work.session, picked):
            work.show(standstill_result(standstill(work.session, picked)))
            return
        _go_on(work, picked, list(choose), preview, words)


def _map(work: Work, picked: PickedUp, values: list[str], preview: bool) -> None:
    """Writes what was made into the crosswalk: as given, or as somebody agrees to at a terminal. For a preview
    nothing is written."""
    from amphora.core.needs.crosswalk import MapState, row_name
    from amphora.core.values.visible import visible
    from amphora.engine.map import map_package, suppose
    from amphora.engine.resume import waiting_for

    if preview:
        suppose(work.session, picked.contents, picked.run.environment, values)
        return
    if values:
        map_package(work.session, picked.contents, [picked.run.environment], values, False)
    for one in waiting_for(work.session, picked) if work.is_terminal else ():
        name = row_name(one.need.key)
        question = f"{picked.run.environment} has {one.value} now ({one.reason}). Is that {name}?"
        if one.state is MapState.GUESSED and typer.confirm(visible(question), err=True):
            map_package(work.session, picked.contents, [picked.run.environment], [f"{name}={one.value}"], False)


def _go_on(
    work: Work, picked: PickedUp, choose: list[str], preview: bool, words: tuple[tuple[str, ...], ...]
) -> None:
    from amphora.cli.runs import carried_out
    from amphora.core.values.visible import visible
    from amphora.engine.arrivals import chosen_for_items
    from amphora.engine.called import Called
    from amphora.engine.gate import in_the_way
    from amphora.engine.imports import question_for
    from amphora.engine.resume import next_leg
    from amphora.render.imports import preview_result, target_lines

    chosen = chosen_for_items(Called(work.session, picked.contents, [picked.run.environment]), choose).items
    said = replace(picked.decisions, items={**picked.decisions.items, **chosen})
    prepared = next_leg(work.session, replace(picked, decisions=said))
    prepared = replace(prepared, docket=replace(prepared.docket, run=picked.run.name, words=words))
    opened = prepared.opened
    work.tell(target_lines(opened, work.session.namesake(opened)))
    # Whoever decides on an item has seen that it was edited.
    request = replace(
        picked.request, is_terminal=work.is_terminal, edited={**picked.request.edited, **dict.fromkeys(chosen, "")}
    )
    if preview:
        work.show(preview_result(prepared.docket, in_the_way(work.session, prepared, request)))
        return
    # Asked only about what came up since: the rest was agreed to when the import began.
    question = question_for(work.session, prepared, request)
    if question and not typer.confirm(visible(question), err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    carried_out(work, prepared, picked.run)
