"""Importing: a docket from a package or a file, what has to be agreed to, the run, and the verification after it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from amphora.core.form.copies import as_named
from amphora.core.plan.actions import Do
from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.commands import to_compare, to_import
from amphora.core.plan.decisions import LEAVE, ItemDecision
from amphora.core.plan.docket import Docket, IfItFails
from amphora.core.plan.reasons import Why
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.model import Contents
from amphora.core.values.next_step import blank, to_type
from amphora.engine.aftercare import cared_for
from amphora.engine.docket import Prepared, is_current, prepare
from amphora.engine.gate import ImportRequest, agreed, in_the_way, refuse
from amphora.engine.habits import learn, rewritten
from amphora.engine.old_links import old_links
from amphora.engine.proof import Cause
from amphora.engine.resume import kept_request, packed_file
from amphora.engine.runs.forwards import Provision, carry_out, go_on
from amphora.engine.runs.outcome import Keeper, Outcome
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.engine.verify import Verified, looked_at, looked_with
from amphora.files.agreements import agreements
from amphora.files.docket_file import DocketFile, line_of, read_docket
from amphora.files.reviewed import refuse_otherwise
from amphora.files.sources import open_package, stored_package
from amphora.ledger.proofs import Proved
from amphora.ledger.records import DONE, Run


def prepare_from_docket(session: Session, path: Path, request: ImportRequest) -> Prepared:
    """The docket that a file describes, with its decisions; NotReady where something has moved since, UsageFault
    where something in the file can't be honoured."""
    file = read_docket(path)
    contents = packed(session, file)
    said = replace(
        file.decisions,
        without=tuple(dict.fromkeys([*file.decisions.without, *request.decisions.without])),
        records=file.decisions.records or request.decisions.records,
        words=request.decisions.words,
    )
    # Before anything is read from the target: with another ledger, bases and links are others, and every question in
    # the file was asked about something else.
    if session.ledger.uid() != file.ledger_uid:
        raise _stale(path, ["the ledger is another one"])
    if (target := target_of(session, file)) != file.target:
        raise _stale(path, [f"{file.target} is called {target} by now"])
    since = base_of(session, file)
    try:
        prepared = prepare(session, contents, file.target, said, since)
    except UsageFault as error:
        place = line_of(file.document["no_longer_packed"], error.subject) or line_of(
            file.document["items"], error.subject
        )
        raise UsageFault(
            error.message, subject=error.subject, place=place, details=error.details, next_step=error.next_step
        ) from error
    docket = prepared.docket
    reasons = {
        "the package is another one": contents.package_digest != file.package_digest,
        "the environment is another one": docket.target_uid != file.target_uid,
        "something has moved in the target or the crosswalk": docket.fingerprint != file.fingerprint,
    }
    # All of them are told, not the first: each is mended in another place.
    if stale := [reason for reason, is_so in reasons.items() if is_so]:
        raise _stale(path, stale)
    # What is part of the question itself stays; only the answers are taken out.
    plain = replace(said, items={}, fates={})
    left = {k: ItemDecision(LEAVE) for k in said.left_out}
    refuse_otherwise(
        path,
        file,
        replace(docket, has_records=file.decisions.records, without=file.decisions.without),
        # Prepared a second time, as nobody had decided anything, and only where a line of the file has to be
        # explained: it reads the target again.
        lambda: prepare(session, contents, file.target, replace(plain, items=left), since).docket,
    )
    # With more or less than stands in the file it is not what anybody agreed to.
    is_as_signed = (said.without, said.records) == (file.decisions.without, file.decisions.records)
    agreed = tuple(agreements(file, session.workspace.keys)) if is_as_signed else ()
    return replace(prepared, is_reviewed=True, agreed=agreed)


def packed(session: Session, file: DocketFile) -> Contents:
    """The package of a docket: where it was then, else by name in the workspace."""
    # Where it was read from when the docket was made: a folder of a pipeline is not in the workspace.
    if file.source and Path(file.source).exists():
        return session.as_known(as_named(open_package(file.source, session.workspace.packages), file.package))
    return session.as_known(stored_package(f"{file.package}-{file.version}", session.workspace.packages))


def _stale(path: Path, reasons: Sequence[str]) -> NotReady:
    return NotReady(
        f"The docket {path.name} is out of date: {', '.join(reasons)}. Nothing was touched.",
        subject=str(path),
        next_step=to_type("compare", "--refresh", str(path)),
    )


def target_of(session: Session, file: DocketFile) -> str:
    """The environment that a docket is for, as it is called now: it may have been renamed since."""
    name = session.ledger.environments().get(file.target_uid, file.target)
    is_here = file.target in session.workspace.environments or name not in session.workspace.environments
    return file.target if is_here else name


def base_of(session: Session, file: DocketFile) -> Contents | None:
    """The package that served a docket as base, if one did."""
    return stored_package(file.since, session.workspace.packages) if file.since else None


def question_for(session: Session, prepared: Prepared, request: ImportRequest) -> str:
    """The question to ask before going on, empty where none is needed; NotReady where it can't be asked or
    something else is in the way."""
    docket = prepared.docket
    reasons = in_the_way(session, prepared, request)
    # A person may agree on the spot to what `--yes` alone does not cover; a script has to say so beforehand.
    is_asking = request.is_terminal and (not request.yes or any(reason.why is Why.CONSENT for reason in reasons))
    refuse(docket, agreed(reasons) if is_asking else reasons)
    if is_asking:
        return _question(docket)
    if request.yes:
        return ""
    raise NotReady(
        "Nobody is here to confirm the import; nothing was touched.",
        next_step=to_import(docket, "--yes"),
    )


def _question(docket: Docket) -> str:
    question = f"Import {docket.title} into {docket.target}: {len(docket.by(Do.CREATE))} new,"
    question += f" {len(docket.by(Do.UPDATE))} changed"
    question += f", {len(docket.edited)} with local edits that stay" if docket.edited else ""
    others = sorted({other for packages in docket.shared.values() for other in packages})
    return question + (f"; {len(docket.shared)} of them were delivered by {', '.join(others)}?" if others else "?")


def import_prepared(
    session: Session,
    prepared: Prepared,
    run: Run | None = None,
    keeper: Keeper | None = None,
    campaign: str = "",
    name: str = "",
    why: str = "",
) -> tuple[Outcome, list[Verified]]:
    """Carries out a decided docket, or the next leg of a run, and verifies what came of it. A failure is in the
    outcome, with what it means for the target. `keeper` is asked whether what was done is kept; else the docket says
    so. `campaign` is the import into many targets that it is part of, `name` how the run is to be called, `why` the
    reason that somebody gave."""
    docket, opened = prepared.docket, prepared.opened
    # Somebody may have sat before the question for an hour.
    if not is_current(session, prepared):
        raise NotReady(
            f"Something moved in {docket.target} since the docket was made; nothing was touched.",
            subject=docket.target,
            next_step=to_type("compare", "--refresh", docket.file) if docket.file else to_compare(docket),
        )
    # Past this line the target may have changed: whatever happens is told with what it means for it.
    stage = stage_of(session, opened.name, run)
    if run is not None:
        outcome = go_on(docket, stage, run, keeper, prepared.said)
    elif not docket.pauses and docket.if_it_fails is not IfItFails.KEEP:
        # Without the package: a run that is put back if it fails has to wait for nobody. Should it be killed, the
        # package is looked for where packages are.
        outcome = carry_out(docket, stage, Provision(kept_request(prepared), None, campaign, name, why), keeper)
    else:
        with packed_file(session, prepared.original or prepared.contents) as file:
            outcome = carry_out(docket, stage, Provision(kept_request(prepared), file, campaign, name, why), keeper)
    if outcome.failure:
        return outcome, []
    try:
        look = looked_at(session, opened.name, session.ledger.delivered(outcome.run))
        if learned := learn(session, opened, outcome.run, look):
            # Not kept from anybody: what a platform leaves out of a definition looks like this too.
            outcome, look = replace(outcome, rewritten=rewritten(learned)), looked_with(look, learned)
        verified = list(look.verified)
        was = [action.item.link for action in docket.actions if action.key in outcome.links]
        held = old_links(look.items, was, outcome.links.values())
        care = cared_for(session, prepared, outcome.run, verified, held)
        run = outcome.run
        if run.state == DONE:
            wrong = {one.key: Cause.UNKNOWN.value for one in verified if not one.is_as_promised}
            account = opened.environment.whoami().account
            session.ledger.proofs.record(
                Proved(run.uid, run.id, run.package, run.version, account, len(verified), wrong)
            )
        return replace(outcome, old_links=tuple(held), care=tuple(care)), verified
    except AmphoraError as error:
        # The run is done and recorded: that nobody can look just now is not its fault.
        session.listener(f"not verified: {error.message}", 0, 0)
        care = session.ledger.aftercare.of_run(outcome.run)
        return replace(outcome, unverified=error.message, care=tuple(care)), []


def is_recorded(session: Session, docket: Docket) -> bool:
    """Whether every item's latest delivery is by this very version, and all that was said is known already: what
    stays out, other titles and folders, in whose hands it is."""
    told = (docket.target_uid, docket.package, docket.source_uid)
    omitted, arrivals = session.ledger.omitted(*told), session.ledger.arrivals(*told)
    if docket.hands_over or any((key in omitted) is not is_left for key, is_left in docket.omissions.items()):
        return False
    if any(docket.arrivals.get(a.key, Arrival()) != arrivals.get(a.key, Arrival()) for a in docket.actions):
        return False
    latest = session.ledger.last_deliveries(docket.target_uid, [action.key for action in docket.actions])
    return all(
        (delivery := latest.get(action.key)) is not None
        and (delivery.package, delivery.version) == (docket.package, docket.version)
        for action in docket.actions
    )


def same_target(file: DocketFile, environments: Sequence[str]) -> None:
    """UsageFault if a docket was made for another environment than the one that is named beside it."""
    if other := [name for name in environments if name != file.target]:
        raise UsageFault(
            f"This docket is for {file.target}, not for {other[0]}.",
            subject=other[0],
            next_step=to_type("compare", f"{file.package}-{file.version}", other[0], "--docket", blank("FILE")),
        )
