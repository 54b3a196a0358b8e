"""import."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from amphora.cli.packages import opened_package
from amphora.cli.runs import How, import_one
from amphora.cli.work import (
    BreakFlag,
    BringOption,
    CopyOption,
    DebugFlag,
    FolderOption,
    JsonFlag,
    LeaveOption,
    MoveOption,
    PauseAfterOption,
    ProgressOption,
    ReplaceOption,
    SameOption,
    TitleOption,
    WaitOption,
    WithOption,
    WithoutOption,
    Work,
    working,
)
from amphora.core.values.next_step import advice, blank, to_type

if TYPE_CHECKING:
    from amphora.core.plan.decisions import Decisions
    from amphora.core.plan.docket import Custody, IfItFails
    from amphora.core.values.model import Contents


def import_(
    package: Annotated[str, typer.Argument(metavar="PACKAGE|DOCKET", help="A package, or a docket file.")],
    environments: Annotated[
        list[str] | None, typer.Argument(metavar="[ENV|GROUP]...", help="One or more targets.")
    ] = None,
    preview: Annotated[bool, typer.Option("--preview", help="Only show what would be done.")] = False,
    with_: WithOption = None,
    without: WithoutOption = None,
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
        str, typer.Option("--custody", help="package or target: in whose hands the target's copy is then, and stays.")
    ] = "",
    copy: CopyOption = "",
    same: SameOption = None,
    replace_: ReplaceOption = None,
    titles: TitleOption = None,
    folders: MoveOption = None,
    leave: LeaveOption = None,
    ids: Annotated[
        str, typer.Option("--ids", metavar="WHICH", help="Where ids can be chosen: auto (as usual), keep or new.")
    ] = "",
    links: Annotated[
        Path | None, typer.Option("--links", metavar="FILE", help="Write old and new links there, as CSV.")
    ] = None,
    pause_after: PauseAfterOption = None,
    bring: BringOption = None,
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
    why: Annotated[str, typer.Option(metavar="TEXT", help="The reason, kept with the run for the record.")] = "",
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
    """Carry out an import.

    If a step fails, all is put back, unless you say otherwise.

    \b
    Examples:
      amphora import olive-intake grove-live --preview
      amphora import olive-intake grove-live --yes --why "change 4711"
      amphora import intake.docket.yaml --yes
      amphora import olive-intake live-sites --rounds one-then-rest --yes
      amphora import olive-intake grove-live --yes --run-name build-77 --pick-up --progress json
      amphora import olive-intake grove-live --copy harvest --folder intake=trial/intake --yes
    """
    from amphora.cli.campaign import import_many
    from amphora.cli.typed import retyped
    from amphora.core.plan.decisions import Decisions
    from amphora.core.values.errors import UsageFault
    from amphora.core.values.once import said_once
    from amphora.engine.arrivals import Said, wants_records
    from amphora.engine.called import Called
    from amphora.engine.docket import prepare
    from amphora.engine.gate import ImportRequest
    from amphora.engine.imports import prepare_from_docket, same_target
    from amphora.engine.resume import run_names
    from amphora.engine.rounds import rounds_of
    from amphora.files.docket_file import is_docket, read_docket

    with working(json, workspace, progress) as work:
        work.be_patient(wait, break_lock)
        # As they were said: by which naming an item is meant only the docket knows.
        said_of = [*((name, "retire") for name in retire or ()), *((name, "let-go") for name in let_go or ())]
        said_once(said_of, "fates")
        fates = dict(said_of)
        said = Decisions(
            {},
            fates,
            checked_custody(custody),
            tuple(without or ()),
            wants_records(with_ or ()),
            if_it_fails=checked_failure(if_it_fails),
            ids=checked_ids(ids),
            words=retyped(),
        )
        request = ImportRequest(said, tuple(take_over or ()), yes, work.is_terminal, not no_pause)
        # By what is in it, and not by its name: people call their files as they like.
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
                bring,
            )
            # Refused, for two places that decide would disagree some day.
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
            import_one(work, prepared, request, preview, How(links, run_name, require_complete, why=why))
            return
        if not environments:
            if Path(package).suffix in (".yaml", ".yml"):
                reason = "it is no docket" if Path(package).exists() else "no such file"
                raise UsageFault(
                    f"{package} can't be used: {reason}.",
                    next_step=to_type("compare", blank("…"), "--docket", blank("FILE")),
                )
            raise UsageFault("Into which environment?", next_step=to_type("import", package, blank("ENVIRONMENT")))
        # Read before any target is asked: a damaged package touches nobody.
        contents = opened_package(work, package, copy)
        arriving = (titles, folders, leave, bring, same, replace_, pause_after)
        targets = work.session.workspace.targets(environments)
        called = Called(work.session, contents, targets)
        said = Said(*(words or () for words in arriving)).over(called, said)
        # Before the names of runs: what is gone on with has one already.
        if pick_up and _picked_up(work, contents, environments, run_name, said, preview):
            return
        names = run_names(work.session, targets, run_name, pick_up)
        parts = rounds_of(targets, rounds)
        # All of them before the first one is touched: a target that refuses is found while nothing is done.
        dockets = [prepare(work.session, contents, name, said) for name in targets]
        if len(targets) == 1:
            how = How(links, names[targets[0]], require_complete, why=why)
            import_one(work, dockets[0], request, preview, how)
        else:
            how = How(links, run_name, require_complete, names, why)
            import_many(work, dockets, request, parts, go_on, preview, how)


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


def _picked_up(
    work: Work, contents: Contents, environments: Sequence[str], name: str, said: Decisions, preview: bool
) -> bool:
    """Whether there was something unfinished of this package into these targets, which has been gone on with, or
    shown. UsageFault where something else is said now than when it began."""
    from amphora.cli.campaign import go_on_with_many
    from amphora.cli.resume import go_on_with
    from amphora.core.values.errors import UsageFault
    from amphora.engine.campaign import begun_with
    from amphora.engine.resume import unfinished
    from amphora.ledger.records import Run

    found = unfinished(work.session, contents, work.session.workspace.targets(environments), name)
    # Nothing unfinished is no fault: a pipeline says `--pick-up` every time.
    if found is None:
        return False
    if not all(said.is_in(one) for one in begun_with(work.session, found)):
        raise UsageFault(
            f"{found.name} was begun otherwise: what is said of an import counts when it begins.",
            subject=found.name,
            next_step=to_type("resume", found.name),
        )
    if not preview:
        work.tell([f"Going on with {found.name}, which is {found.state}."])
    if isinstance(found, Run):
        go_on_with(work, found, preview=preview)
    else:
        go_on_with_many(work, found, preview=preview)
    return True
