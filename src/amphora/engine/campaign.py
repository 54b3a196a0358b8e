"""Campaigns: one import into many targets, remembered, so that what remains can be brought, or all taken back."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from amphora.core.form.copies import as_named
from amphora.core.plan.decisions import Decisions
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Json
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.words import few
from amphora.engine.docket import Prepared, prepare
from amphora.engine.gate import ImportRequest
from amphora.engine.resume import Standstill, kept_request, next_leg, packed_file, picked_up, standstill, waiting_for
from amphora.engine.rounds import Came, Part
from amphora.engine.runs.backwards import Back
from amphora.engine.session import Session
from amphora.engine.undo import run_to_undo, undo
from amphora.files.names import SUFFIX
from amphora.files.package import read_package
from amphora.ledger.records import DONE, OPEN, PUT_BACK, UNDONE, Campaign, Run


@dataclass(frozen=True)
class Remaining:
    """What remains of a campaign: what can be done now, and where somebody has to make something by hand first;
    `done` are the targets in which it is done already."""

    contents: Contents
    parts: tuple[Part, ...]
    waiting: tuple[Standstill, ...]
    done: tuple[str, ...]


def begin(
    session: Session,
    dockets: Sequence[Prepared],
    rounds: Sequence[Sequence[str]],
    goes_on: bool,
    request: ImportRequest,
    name: str = "",
) -> Campaign:
    """Remembers a campaign, with its package, before its first target is touched."""
    docket = dockets[0].docket
    account = dockets[0].opened.environment.whoami().account
    kept = {
        "rounds": [list(names) for names in rounds],
        "goes_on": goes_on,
        "may_pause": request.may_pause,
        "take_over": list(request.take_over),
        # Per target: what was remembered of titles and folders differs from one to the other.
        "wanted": {one.docket.target: kept_request(one)["decisions"] for one in dockets},
        "uids": {one.docket.target: one.docket.target_uid for one in dockets},
    }
    # Into the ledger before anything is touched: who resumes has to bring these very bytes.
    with packed_file(session, dockets[0].original or dockets[0].contents) as file:
        session.ledger.parcels.put(docket.package_digest, file)
    return session.ledger.campaigns.begin(
        docket.package, docket.version, docket.source_uid, docket.package_digest, account, kept, name
    )


def settle(session: Session, campaign: Campaign, found: Sequence[Came]) -> None:
    """Closes a campaign if it is done in all targets."""
    came = {one.docket.target: one for one in found}
    done = {run.environment for run in session.ledger.journal.of_campaign(campaign.name) if run.state == DONE}
    # A target that had it already has no run, and is done all the same.
    idle = {name for name, one in came.items() if one.state == "nothing to do"}
    if set(campaign.targets) <= done | idle:
        session.ledger.campaigns.end(campaign.name, DONE)


def campaign_to_resume(session: Session, name: str) -> Campaign | None:
    """The campaign that a name means, or the only open one where none is named and no other run waits; None where a
    run is meant. NotReady where it is over."""
    if name:
        found = session.ledger.campaigns.named(name)
        if found and found.state != OPEN:
            words = f"{name} does not wait for anybody: it is {found.state}."
            raise NotReady(words, subject=name, next_step=to_type("history", name))
        return found
    open_ = session.ledger.campaigns.open()
    others = [run for run in session.ledger.journal.runs() if run.is_open and not run.campaign]
    return open_[0] if len(open_) == 1 and not others else None


def begun_with(session: Session, found: Run | Campaign) -> list[Mapping[str, Json]]:
    """The decisions with which an import began, as the ledger keeps them; of many targets those of each."""
    if isinstance(found, Campaign):
        return list(found.request["wanted"].values())
    return [session.ledger.journal.docket(found).get("decisions", {})]


@contextmanager
def remaining(session: Session, campaign: Campaign) -> Iterator[Remaining]:
    """What is left to be done, compared anew, as long as this lasts: the package is unpacked beside it."""
    wanted = campaign.request["wanted"]
    runs = _latest(session, campaign)
    parts, waiting, done = [], [], []
    with ExitStack() as stack:
        folder = stack.enter_context(tempfile.TemporaryDirectory())
        path = Path(folder) / f"{campaign.package}-{campaign.version}{SUFFIX}"
        if not session.ledger.parcels.take(campaign.package_digest, path):
            raise NotReady(
                f"{campaign.name} can't go on: its package {campaign.package} {campaign.version} is no longer in the"
                " ledger.",
                subject=campaign.name,
                next_step=to_type("import", f"{campaign.package}-{campaign.version}", *campaign.targets),
            )
        contents = session.as_known(as_named(read_package(path), campaign.package))
        for target in campaign.targets:
            run = runs.get(target)
            if run is not None and run.is_open and not run.can_go_on:
                words = f"{run.name} into {target} is {run.standing}: that has to be settled first."
                raise NotReady(words, subject=run.name, next_step=to_type("undo", run.name))
            if run is not None and run.state == DONE:
                done.append(target)
            elif run is not None and run.is_open:
                picked = stack.enter_context(picked_up(session, run))
                # A target that waits for somebody holds nobody else up.
                if waiting_for(session, picked):
                    waiting.append(standstill(session, picked))
                else:
                    parts.append(Part(next_leg(session, picked), run))
            else:
                _refuse_another(session, campaign, target)
                said = Decisions.from_json(wanted[target])
                parts.append(Part(prepare(session, contents, target, said)))
        yield Remaining(contents, tuple(parts), tuple(waiting), tuple(done))


def _refuse_another(session: Session, campaign: Campaign, target: str) -> None:
    """NotReady where a target that was not begun is another environment by now: nobody agreed to that one."""
    # Earlier builds kept names only.
    uid = campaign.request.get("uids", {}).get(target)
    if uid not in (None, session.open(target).description.uid):
        raise NotReady(
            f"{target} is another environment by now than the one that {campaign.name} was to go into.",
            subject=campaign.name,
            next_step=to_type("env", "list"),
        )


def request_of(campaign: Campaign) -> ImportRequest:
    """What was agreed to when the campaign began."""
    kept = campaign.request
    return ImportRequest(Decisions(), tuple(kept["take_over"]), yes=True, may_pause=kept["may_pause"])


def in_force(session: Session, campaign: Campaign) -> list[Run]:
    """The runs of a campaign that were neither put back nor undone."""
    # The latest of each target: an earlier one was put back, or went on in it.
    runs = [run for run in _latest(session, campaign).values() if run.state not in (PUT_BACK, UNDONE)]
    # The last target first, and not the last run: which of several that went side by side began last is chance.
    return sorted(runs, key=lambda run: -campaign.targets.index(run.environment))


def runs_to_undo(session: Session, campaign: Campaign, only: Sequence[str]) -> list[Run]:
    """The runs of a campaign that are in force, the latest first; those into some targets `only`, if any are named.
    NotReady where one of them is not the latest into its target: nothing is undone then. None of a campaign that is
    open and of which nothing is in force: there is only its record to be closed."""
    if unknown := [name for name in only if name not in campaign.targets]:
        raise UsageFault(
            f"{campaign.name} did not go to {unknown[0]}.",
            subject=unknown[0],
            details=[f"targets: {few(campaign.targets, 12)}"],
            next_step=advice("Name one of its targets with --only."),
        )
    runs = [run for run in in_force(session, campaign) if not only or run.environment in only]
    if not runs and campaign.state == OPEN and not only:
        return []
    if not runs:
        raise NotReady(
            f"Nothing of {campaign.name} is left to be undone.", subject=campaign.name, next_step=to_type("history")
        )
    for run in runs:
        # All of them, before the first is touched: one that can't be reached is told while nothing is done.
        session.placed(run)
    return [run_to_undo(session, run.name) for run in runs]


def close(session: Session, campaign: Campaign) -> None:
    """Gives a campaign up of which nothing is in force."""
    session.ledger.campaigns.end(campaign.name, UNDONE)


def undo_all(session: Session, campaign: Campaign, runs: Sequence[Run]) -> tuple[list[Back], AmphoraError | None]:
    """Undoes these runs, one after the other; one that can't be undone stops the rest. Raises what stops the first
    one; what stops a later one comes back with what was done by then."""
    found: list[Back] = []
    for run in runs:
        try:
            found.append(undo(session, run))
        except AmphoraError as error:
            if not found:
                raise
            return found, error
        if found[-1].is_open:
            return found, None
    left = [run for run in _latest(session, campaign).values() if run.state not in (PUT_BACK, UNDONE)]
    if not left:
        session.ledger.campaigns.end(campaign.name, UNDONE)
    return found, None


def _latest(session: Session, campaign: Campaign) -> dict[str, Run]:
    """The latest run of a campaign into each target, the latest first."""
    found: dict[str, Run] = {}
    # Of a target that failed and was tried again only the last try counts.
    for run in session.ledger.journal.of_campaign(campaign.name):
        found.setdefault(run.environment, run)
    return found
