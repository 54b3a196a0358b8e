"""Imports into many targets: begun, gone on with, undone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import typer

from amphora.cli.runs import PLAIN, How, demanding, write_links
from amphora.cli.work import Work
from amphora.core.values.next_step import to_type
from amphora.core.values.visible import visible

if TYPE_CHECKING:
    from amphora.engine.docket import Prepared
    from amphora.engine.gate import ImportRequest
    from amphora.ledger.records import Campaign


def import_many(
    work: Work,
    dockets: Sequence[Prepared],
    request: ImportRequest,
    rounds: Sequence[Sequence[str]],
    go_on: bool,
    preview: bool,
    how: How = PLAIN,
) -> None:
    from amphora.core.plan.commands import to_import
    from amphora.core.values.errors import NotReady
    from amphora.engine.campaign import begin, settle
    from amphora.engine.gate import in_the_way
    from amphora.engine.imports import is_recorded
    from amphora.engine.rounds import NOTHING_TO_DO, Came, Part, carried, refuse_any, refuse_twins, stopping
    from amphora.render.imports import target_lines
    from amphora.render.rounds import previews_result, rounds_result

    title = dockets[0].docket.title
    refuse_twins(dockets)
    for one in dockets:
        opened = one.opened
        lines = target_lines(opened, work.session.namesake(opened))
        work.tell([", ".join(line.split(maxsplit=1)[1] for line in lines)])
    if preview:
        ways = [(one.docket, in_the_way(work.session, one, request)) for one in dockets]
        work.show(previews_result(title, ways))
        return
    parts = [Part(one, name=how.names.get(one.docket.target, ""), why=how.why) for one in dockets]
    refuse_any(parts, {one.docket.target: stopping(work.session, one, request) for one in dockets}, len(dockets))
    names = [one.docket.target for one in dockets]
    if not request.yes and not work.is_terminal:
        raise NotReady(
            "Nobody is here to confirm the import; nothing was touched.",
            next_step=to_import(dockets[0].docket, "--yes", targets=names),
        )
    order = " then ".join(", ".join(part) for part in rounds)
    question = f"Import {title} into {len(names)} targets ({order})?"
    if not request.yes and not typer.confirm(visible(question), err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    if all(one.docket.is_settled and is_recorded(work.session, one.docket) for one in dockets):
        # Nothing is begun that somebody would have to be told of later.
        write_links(how.links, [(one.docket, None) for one in dockets])
        result = rounds_result(title, [Came(one.docket, NOTHING_TO_DO) for one in dockets], "")
        work.show(demanding(work, result, [one.docket for one in dockets], how))
        return
    campaign = begin(work.session, dockets, rounds, go_on, request, how.name)
    found = carried(work.session, parts, rounds, go_on, campaign.name)
    settle(work.session, campaign, found)
    whole = [one for one in found if one.state == NOTHING_TO_DO or (one.outcome and not one.outcome.failure)]
    write_links(how.links, [(one.docket, one.outcome) for one in whole])
    result = rounds_result(title, found, campaign.name)
    work.show(demanding(work, result, [one.docket for one in found], how), has_changed=True)


def go_on_with_many(work: Work, campaign: Campaign, has_more: bool = False, preview: bool = False) -> None:
    """Brings what remains of an import into many targets, and only that."""
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.next_step import advice
    from amphora.engine.campaign import remaining, request_of, settle
    from amphora.engine.gate import in_the_way
    from amphora.engine.rounds import carried, refuse_any
    from amphora.render.rounds import previews_result, rounds_result

    if has_more:
        raise UsageFault(
            "What is made or decided belongs to one target.",
            subject=campaign.name,
            next_step=advice("Name its run with these options first; then resume the rest."),
        )
    kept = campaign.request
    with remaining(work.session, campaign) as left:
        title = f"{campaign.package} {campaign.version}"
        request = request_of(campaign)
        # Each as what it is: one that goes on is no second run of its own.
        ways = {
            part.target: in_the_way(
                work.session, part.prepared, replace(request, run=part.run.name if part.run else "")
            )
            for part in left.parts
        }
        if preview:
            # What comes next is to go on with it, and not another import.
            dockets = [(replace(part.prepared.docket, run=campaign.name), ways[part.target]) for part in left.parts]
            work.show(previews_result(title, dockets))
            return
        refuse_any(left.parts, ways, len(campaign.targets))
        found = carried(work.session, left.parts, kept["rounds"], kept["goes_on"], campaign.name)
        settle(work.session, campaign, found)
        work.show(
            rounds_result(title, found, campaign.name, left.waiting, left.done, "resume"), has_changed=bool(found)
        )


def undo_many(work: Work, campaign: Campaign, only: list[str], preview: bool, yes: bool) -> None:
    """Undoes an import into many targets, in all of them or in some."""
    from dataclasses import replace

    from amphora.core.values.errors import NotReady
    from amphora.core.values.words import counted, few
    from amphora.engine.campaign import close, in_force, runs_to_undo, undo_all
    from amphora.engine.undo import foreseen
    from amphora.render.result import Result
    from amphora.render.rounds import back_result
    from amphora.render.undo import foreseen_result

    runs = runs_to_undo(work.session, campaign, only)
    if not runs:
        if not preview:
            close(work.session, campaign)
        words = (
            f"Of {campaign.name} nothing is in force in any target; {'it would be' if preview else 'it is'} closed."
        )
        data = {"campaign": campaign.name, "runs": [], "preview": preview}
        work.show(Result("undo", words, "good", (), data, to_type("history")))
        return
    names = few([run.environment for run in runs], 8)
    again = [word for name in only for word in ("--only", name)]
    if preview:
        shown = [foreseen_result(run, foreseen(work.session, run)) for run in runs]
        back = f"{counted(len(runs), 'run')}: {names}."
        words = f"Preview, nothing was touched. Undoing {campaign.name} would put back {back}"
        blocks = [
            replace(block, title=run.name) for run, one in zip(runs, shown, strict=True) for block in one.blocks
        ]
        data = {"preview": True, "campaign": campaign.name, "runs": [one.data for one in shown]}
        work.show(Result("undo", words, "plain", blocks, data, to_type("undo", campaign.name, *again)))
        return
    if not yes and not work.is_terminal:
        message = f"Nobody is here to confirm that {campaign.name} is put back; nothing was touched."
        raise NotReady(message, subject=campaign.name, next_step=to_type("undo", campaign.name, *again, "--yes"))
    question = f"Put back what {campaign.name} did ({campaign.package} {campaign.version}, in {names})?"
    if not yes and not typer.confirm(visible(question), err=True):
        raise typer.Exit(3)
    found, trouble = undo_all(work.session, campaign, runs)
    rest = [run.environment for run in runs[len(found) :]]
    # Of those that were not asked for: some of them may have been undone before.
    asked = {run.environment for run in runs}
    stays = [run.environment for run in in_force(work.session, campaign) if run.environment not in asked]
    work.show(back_result(campaign.name, found, rest, stays, trouble), has_changed=True)
