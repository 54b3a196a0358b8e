"""import."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.work import (
    BreakFlag,
    CopyOption,
    DebugFlag,
    FolderOption,
    JsonFlag,
    MoveOption,
    ProgressOption,
    ReplaceOption,
    SameOption,
    TitleOption,
    WaitOption,
    Work,
    working,
)
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.visible import visible

if TYPE_CHECKING:
    from amphora.core.plan.docket import Custody, Docket, IfItFails
    from amphora.core.values.errors import AmphoraError
    from amphora.core.values.model import Contents
    from amphora.engine.docket import Prepared
    from amphora.engine.gate import ImportRequest
    from amphora.engine.runs.forwards import Outcome
    from amphora.ledger.records import Run
    from amphora.render.result import Result


def import_(
    package: Annotated[str, typer.Argument(metavar="PACKAGE|DOCKET", help="A package, or a docket file.")],
    environments: Annotated[
        list[str] | None, typer.Argument(metavar="[ENV|GROUP]...", help="One or more targets.")
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be done.")] = False,
    with_: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="WHAT", help="records: load rows into tables that are new or empty there."),
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="WHAT", help="attachments: the target keeps its own; access: no rules."),
    ] = None,
    retire: Annotated[
        list[str] | None,
        typer.Option("--retire", metavar="ITEM", help="Remove this one, which the package no longer holds."),
    ] = None,
    let_go: Annotated[
        list[str] | None,
        typer.Option("--let-go", metavar="ITEM", help="Leave this one there, and end the package's claim."),
    ] = None,
    take_over: Annotated[
        list[str] | None,
        typer.Option("--take-over", metavar="PACKAGE", help="Override what that package delivered, too."),
    ] = None,
    custody: Annotated[
        str, typer.Option("--custody", help="package or target: in whose hands the target's copy is then.")
    ] = "",
    copy: CopyOption = "",
    same: SameOption = None,
    replace_: ReplaceOption = None,
    titles: TitleOption = None,
    folders: MoveOption = None,
    leave: Annotated[
        list[str] | None, typer.Option("--leave", metavar="ITEM", help="Leave it out; what uses it needs it there.")
    ] = None,
    ids: Annotated[
        str, typer.Option("--ids", metavar="WHICH", help="Where ids can be chosen: auto (as usual), keep or new.")
    ] = "",
    links: Annotated[
        Path | None, typer.Option("--links", metavar="FILE", help="Write old and new links there, as CSV.")
    ] = None,
    pause_after: Annotated[
        list[str] | None,
        typer.Option("--pause-after", metavar="ITEM[=ABOUT]", help="Wait for somebody's word once this one is in."),
    ] = None,
    if_it_fails: Annotated[
        str,
        typer.Option("--if-it-fails", metavar="WHAT", help="put-back (as usual) or keep, to go on later."),
    ] = "",
    rounds: Annotated[
        str, typer.Option("--rounds", metavar="HOW", help="Of many targets: all, one-then-rest, or how many a round.")
    ] = "",
    go_on: Annotated[bool, typer.Option("--go-on", help="Of many targets: go on after a bad one.")] = False,
    run_name: Annotated[
        str, typer.Option("--run-name", metavar="NAME", help="How the run is called, for whoever looks for it later.")
    ] = "",
    pick_up: Annotated[
        bool, typer.Option("--pick-up", help="Go on with this package's unfinished run, if there is one.")
    ] = False,
    require_complete: Annotated[
        bool,
        typer.Option("--require-complete", help="What is left to do by hand counts: exit code 1."),
    ] = False,
    no_pause: Annotated[
        bool, typer.Option("--no-pause", help="Refuse what would have to stop for something to be made by hand.")
    ] = False,
    yes: Annotated[
        bool, typer.Option("--yes", help="Agree to creating items, and to updating those without local edits.")
    ] = False,
    wait: WaitOption = 0.0,
    break_lock: BreakFlag = False,
    progress: ProgressOption = "",
    json: JsonFlag = False,
    workspace: FolderOption = None,
    debug: DebugFlag = False,
) -> None:
    """Carry out an import; if a step fails, all is put back, unless you say otherwise.

    \b
    Examples:
      amphora import olive-intake grove-live --preview
      amphora import olive-intake grove-live --yes
      amphora import intake.docket.yaml --yes
      amphora import olive-intake live-sites --rounds one-then-rest --yes
      amphora import olive-intake grove-live --yes --run-name build-77 --pick-up --progress json
      amphora import olive-intake grove-live --copy harvest --folder intake=trial/intake --yes
    """
    from amphora.core.plan.decisions import Decisions
    from amphora.core.values.errors import UsageFault
    from amphora.engine.arrivals import arrivals_of, left_out, said_again, taken_for, words_after
    from amphora.engine.docket import prepare
    from amphora.engine.gate import ImportRequest
    from amphora.engine.imports import prepare_from_docket, same_target
    from amphora.engine.resume import run_names
    from amphora.engine.rounds import rounds_of
    from amphora.files.docket_file import is_docket, read_docket

    with working(json, workspace, progress) as work:
        work.be_patient(wait, break_lock)
        fates = dict.fromkeys(retire or (), "retire") | dict.fromkeys(let_go or (), "let-go")
        said = Decisions(
            {},
            fates,
            checked_custody(custody),
            tuple(without or ()),
            wants_records(with_),
            if_it_fails=checked_failure(if_it_fails),
            ids=checked_ids(ids),
        )
        request = ImportRequest(said, tuple(take_over or ()), yes, work.is_terminal, not no_pause)
        if is_docket(Path(package)):
            options = (
                fates,
                custody,
                take_over,
                if_it_fails,
                titles,
                folders,
                leave,
                copy,
                ids,
                same,
                replace_,
                pause_after,
            )
            if any(options):
                raise UsageFault(
                    "What a docket decides stands in it.", next_step=advice(f"Write it into {package}, by hand.")
                )
            if rounds or go_on:
                raise UsageFault(
                    "A docket is for one target.",
                    subject=package,
                    next_step=advice("Leave --rounds and --go-on out."),
                )
            # Before it is prepared: a name that was mistyped must not cost a reading of the wrong target.
            same_target(read_docket(Path(package)), environments or ())
            prepared = prepare_from_docket(work.session, Path(package), request)
            _import_one(work, prepared, request, preview, How(links, run_name, require_complete))
            return
        if not environments:
            if Path(package).suffix in (".yaml", ".yml"):
                reason = "it is no docket" if Path(package).exists() else "no such file"
                raise UsageFault(
                    f"{package} can't be used: {reason}.",
                    next_step=to_type("compare", blank("…"), "--docket", blank("FILE")),
                )
            raise UsageFault("Into which environment?", next_step=to_type("import", package, blank("ENVIRONMENT")))
        contents = opened_package(work, package, copy)
        if pick_up and _picked_up(work, contents, environments, run_name):
            return
        names = run_names(work.session, work.session.workspace.targets(environments), run_name, pick_up)
        arrivals = arrivals_of(contents, titles or (), folders or ())
        taken = taken_for(contents, same or (), replace_ or ())
        said = replace(
            said,
            items={**taken.items, **left_out(contents, leave or ())},
            arrivals=arrivals,
            same=taken.same,
            pause_after=words_after(contents, pause_after or ()),
            words=said_again(
                title=titles, folder=folders, leave=leave, same=same, replace=replace_, **{"pause-after": pause_after}
            ),
        )
        targets = work.session.workspace.targets(environments)
        parts = rounds_of(targets, rounds)
        dockets = [prepare(work.session, contents, name, said) for name in targets]
        if len(targets) == 1:
            how = How(links, names[targets[0]], require_complete)
            _import_one(work, dockets[0], request, preview, how)
        else:
            how = How(links, "", require_complete, names)
            _import_many(work, dockets, request, parts, go_on, preview, how)


def wants_records(with_: list[str] | None) -> bool:
    """Whether rows are to be loaded; UsageFault for anything else that is asked to come along."""
    from amphora.core.values.errors import UsageFault

    if unknown := sorted(set(with_ or ()) - {"records"}):
        raise UsageFault(f"--with takes records, not {unknown[0]!r}.", next_step=to_type("import", "--help"))
    return bool(with_)


def checked_failure(what: str) -> IfItFails:
    """What is to become of a run that fails; UsageFault where it is neither."""
    from amphora.core.plan.docket import IfItFails
    from amphora.core.values.errors import UsageFault

    if what and what not in tuple(IfItFails):
        words = f"--if-it-fails is put-back or keep, not {what!r}."
        raise UsageFault(words, next_step=to_type("import", "--help"))
    return IfItFails(what) if what else IfItFails.PUT_BACK


def checked_ids(ids: str) -> str:
    """Which ids new items are to get; UsageFault for anything else."""
    from amphora.core.plan.decisions import AUTO, IDS
    from amphora.core.values.errors import UsageFault

    if ids and ids not in IDS:
        raise UsageFault(f"--ids is {', '.join(IDS)}, not {ids!r}.", next_step=to_type("import", "--help"))
    return ids or AUTO


def checked_custody(custody: str) -> Custody | None:
    """The custody asked for; UsageFault where it is none."""
    from amphora.core.plan.docket import Custody
    from amphora.core.values.errors import UsageFault

    if custody and custody not in tuple(Custody):
        raise UsageFault(f"--custody is package or target, not {custody!r}.", next_step=to_type("import", "--help"))
    return Custody(custody) if custody else None


@dataclass(frozen=True)
class How:
    """What is asked of an import beside what it does: a table of links, the name of its run (or of each target's),
    and that what is left to do by hand counts."""

    links: Path | None = None
    name: str = ""
    is_complete: bool = False
    names: Mapping[str, str] = field(default_factory=dict)


PLAIN = How()


def _picked_up(work: Work, contents: Contents, environments: Sequence[str], name: str) -> bool:
    """Whether there was something unfinished of this package into these targets, which has been gone on with."""
    from amphora.cli.resume import go_on_with, go_on_with_many
    from amphora.engine.resume import unfinished
    from amphora.ledger.records import Run

    found = unfinished(work.session, contents, work.session.workspace.targets(environments), name)
    if found is None:
        return False
    work.tell([f"Going on with {found.name}, which is {found.state}."])
    if isinstance(found, Run):
        go_on_with(work, found)
    else:
        go_on_with_many(work, found)
    return True


def _import_one(work: Work, prepared: Prepared, request: ImportRequest, preview: bool, how: How = PLAIN) -> None:
    from amphora.engine.gate import in_the_way
    from amphora.engine.imports import import_prepared, is_recorded, question_for
    from amphora.render.imports import idle_result, preview_result, target_lines

    docket, opened = prepared.docket, prepared.opened
    work.tell(target_lines(opened.entry, opened.environment.whoami(), opened.description.release))
    if preview:
        work.show(preview_result(docket, in_the_way(work.session, prepared, request)))
        return
    # Nothing to write is no reason to skip the gate: the docket may be idle because something is undecided.
    if docket.is_settled and not in_the_way(work.session, prepared, request):
        if not is_recorded(work.session, docket):
            # Recorded all the same: from now on the target has this version, and local edits are measured by it.
            import_prepared(work.session, prepared)
        work.show(idle_result(docket))
        return
    question = question_for(work.session, prepared, request)
    if question and not typer.confirm(visible(question), err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    carried_out(work, prepared, how=how)


def _import_many(
    work: Work,
    dockets: Sequence[Prepared],
    request: ImportRequest,
    rounds: Sequence[Sequence[str]],
    go_on: bool,
    preview: bool,
    how: How = PLAIN,
) -> None:
    from amphora.core.values.errors import NotReady
    from amphora.engine.campaign import begin, settle
    from amphora.engine.gate import in_the_way
    from amphora.engine.rounds import Part, carried, refuse_any, stopping
    from amphora.render.imports import target_lines
    from amphora.render.rounds import previews_result, rounds_result

    title = dockets[0].docket.title
    for one in dockets:
        opened = one.opened
        lines = target_lines(opened.entry, opened.environment.whoami(), opened.description.release)
        work.tell([", ".join(line.split(maxsplit=1)[1] for line in lines)])
    if preview:
        ways = [(one.docket, in_the_way(work.session, one, request)) for one in dockets]
        work.show(previews_result(title, ways))
        return
    parts = [Part(one, name=how.names.get(one.docket.target, "")) for one in dockets]
    refuse_any(parts, {one.docket.target: stopping(work.session, one, request) for one in dockets}, len(dockets))
    names = [one.docket.target for one in dockets]
    if not request.yes and not work.is_terminal:
        raise NotReady(
            "Nobody is here to confirm the import; nothing was touched.",
            next_step=to_type("import", dockets[0].docket.name, *names, "--yes"),
        )
    order = " then ".join(", ".join(part) for part in rounds)
    question = f"Import {title} into {len(names)} targets ({order})?"
    if not request.yes and not typer.confirm(visible(question), err=True):
        work.tell(["Nothing was touched."])
        raise typer.Exit(3)
    campaign = begin(work.session, dockets, rounds, go_on, request)
    found = carried(work.session, parts, rounds, go_on, campaign.name)
    settle(work.session, campaign, found)
    write_links(how.links, [(one.docket, one.outcome) for one in found if one.outcome and not one.outcome.failure])
    result = rounds_result(title, found, campaign.name)
    left = [came.docket for came in found if came.outcome]
    work.show(_demanding(result, left) if how.is_complete else result, has_changed=True)


def write_links(links: Path | None, done: Sequence[tuple[Docket, Outcome]]) -> None:
    """Writes old and new links as a table for spreadsheets, where that was asked for."""
    from amphora.render.imports import links_table

    if links is not None:
        links.write_text(links_table(done), encoding="utf-8-sig", newline="")


def _demanding(result: Result, dockets: Sequence[Docket]) -> Result:
    """The result, with another exit code where something is left to do by hand."""
    from amphora.core.values.words import counted

    count = sum(len(docket.to_enter) for docket in dockets)
    if result.code or not count:
        return result
    return replace(result, verdict=f"{result.verdict} Not complete: {counted(count, 'secret')} to enter.", code=1)


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

    outcome, verified = import_prepared(work.session, prepared, run, keeper, name=how.name)
    if outcome.failure:
        raise outcome.failure
    write_links(how.links, [(prepared.docket, outcome)])
    if outcome.run.state != PAUSED:
        result = import_result(prepared.docket, outcome, verified)
        work.show(_demanding(result, [prepared.docket]) if how.is_complete else result, has_changed=True)
        return
    with picked_up(work.session, outcome.run) as picked:
        work.show(standstill_result(standstill(work.session, picked), "import"), has_changed=True)
