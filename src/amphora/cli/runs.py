"""Carrying out what was prepared, for one target, and showing what came of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from amphora.cli.work import Work
from amphora.core.values.late import dataclass
from amphora.core.values.visible import visible

if TYPE_CHECKING:
    from amphora.core.plan.docket import Docket
    from amphora.core.values.errors import AmphoraError
    from amphora.engine.docket import Prepared
    from amphora.engine.gate import ImportRequest
    from amphora.engine.runs.outcome import Outcome
    from amphora.ledger.records import Run
    from amphora.render.result import Result


@dataclass(frozen=True)
class How:
    """What is asked of an import beside what it does: a table of links, the name of its run (and of each target's),
    and that what is left to do by hand counts."""

    links: Path | None = None
    name: str = ""
    is_complete: bool = False
    names: Mapping[str, str] = field(default_factory=dict)
    why: str = ""
    """The reason that is kept with the run."""


PLAIN = How()


def import_one(work: Work, prepared: Prepared, request: ImportRequest, preview: bool, how: How = PLAIN) -> None:
    from amphora.engine.gate import in_the_way
    from amphora.engine.imports import import_prepared, is_recorded, question_for
    from amphora.render.imports import idle_result, preview_result, target_lines

    docket, opened = prepared.docket, prepared.opened
    work.tell(target_lines(opened, work.session.namesake(opened)))
    if preview:
        work.show(preview_result(docket, in_the_way(work.session, prepared, request)))
        return
    # Nothing to write is no reason to skip the gate: the docket may be idle because something is undecided.
    if docket.is_settled and not in_the_way(work.session, prepared, request):
        if not is_recorded(work.session, docket):
            # Recorded all the same: from now on the target has this version, and local edits are measured by it.
            outcome, _ = import_prepared(work.session, prepared, name=how.name, why=how.why)
            if outcome.failure:
                raise outcome.failure
        write_links(how.links, [(docket, None)])
        work.show(demanding(work, idle_result(docket), [docket], how))
        return
    question = question_for(work.session, prepared, request)
    if question and not typer.confirm(visible(question), err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    carried_out(work, prepared, how=how)


def write_links(links: Path | None, done: Sequence[tuple[Docket, Outcome | None]]) -> None:
    """Writes old and new links as a table for spreadsheets, where that was asked for."""
    from amphora.render.imports import links_table

    if links is not None:
        links.write_text(links_table(done), encoding="utf-8-sig", newline="")


def demanding(work: Work, result: Result, dockets: Sequence[Docket], how: How) -> Result:
    """The result, where it is asked for with another exit code if something is still to do: after these imports, or
    after an earlier one of the same package into the same target."""
    from amphora.core.plan.aftercare import told
    from amphora.core.values.next_step import to_type
    from amphora.engine.aftercare import open_after, settled_by_looking

    if result.code or not how.is_complete:
        return result
    open_ = open_after(work.session, [(docket.target, docket.package) for docket in dockets])
    still, _ = settled_by_looking(work.session, open_)
    if not still:
        return result
    words = result.verdict
    if "Still to do" not in words:
        words += f" Still to do: {told([entry.task for entry in still])}."
    return replace(result, verdict=words, code=1, next_step=to_type("aftercare", still[0].run))


def carried_out(work: Work, prepared: Prepared, run: Run | None = None, how: How = PLAIN) -> None:
    """Carries out a docket, or the next leg of a run, and shows what became of it."""
    from amphora.core.plan.docket import IfItFails
    from amphora.core.values.errors import Interrupted
    from amphora.engine.imports import import_prepared
    from amphora.engine.resume import picked_up, standstill
    from amphora.ledger.records import PAUSED
    from amphora.render.imports import import_result
    from amphora.render.resume import standstill_result

    def keeper(error: AmphoraError) -> bool:
        # Whoever interrupts is there to be asked; a script has said beforehand what it wants.
        if isinstance(error, Interrupted) and work.is_terminal:
            work.progress.stop()  # it would draw over the question
            return typer.confirm("Keep what is done, to go on later? (No puts it back)", err=True)
        return prepared.docket.if_it_fails is IfItFails.KEEP

    outcome, verified = import_prepared(work.session, prepared, run, keeper, name=how.name, why=how.why)
    if outcome.failure:
        raise outcome.failure
    write_links(how.links, [(prepared.docket, outcome)])
    if outcome.run.state != PAUSED:
        result = import_result(prepared.docket, outcome, verified)
        work.show(demanding(work, result, [prepared.docket], how), has_changed=True)
        return
    with picked_up(work.session, outcome.run) as picked:
        work.show(standstill_result(standstill(work.session, picked), "import"), has_changed=True)
