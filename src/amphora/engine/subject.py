"""What a verification is about: the run or the package that a name means, or why there is nothing to look at."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.form.copies import taken_apart
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.model import Claim
from amphora.core.values.next_step import to_type
from amphora.core.values.versions import is_version, newest
from amphora.engine.session import Session
from amphora.files.package import find_package
from amphora.ledger.records import IMPORT, PUT_BACK, UNDONE, Run


def run_to_verify(session: Session, name: str) -> Run:
    """The run that a name means; `last` is the latest that brought something which was not taken back."""
    journal = session.ledger.journal
    brought = [r for r in journal.runs() if r.kind == IMPORT and r.state not in (UNDONE, PUT_BACK)]
    brought = brought if name == "last" else []
    if brought:
        return brought[0]
    runs = journal.runs()
    into = [run.environment for run in runs if run.is_of(name)]
    if into and all(run.name != name for run in runs):
        places = ", ".join(dict.fromkeys(into))
        raise UsageFault(
            f"{name} is a package: it isn't said where to look.",
            subject=name,
            details=[f"imported into: {places}"],
            next_step=to_type("verify", name, into[0]),
        )
    return journal.run(name)


def nothing_of(session: Session, package: str, environment: str, uid: str) -> AmphoraError:
    """Why there is nothing to look at: it never was there, it is gone, or it is not yet all there."""
    runs = session.ledger.journal.runs()
    if any(run.name == package for run in runs):
        words = f"{package} is a run, and a run has an environment of its own."
        return UsageFault(words, subject=package, next_step=to_type("verify", package))
    if all(run.package != package for run in runs):
        # A name that is nowhere is a slip: nobody is told to import it.
        try:
            find_package(taken_apart(package)[0], session.workspace.packages)
        except UsageFault as slip:
            return slip
    mine = [run for run in runs if run.uid == uid and run.package == package]
    words = f"Nothing of {package} is in force in {environment}: what was brought is undone, withdrawn or let go."
    after = to_type("import", package, environment)
    if not mine:
        words = f"{package} was never imported into {environment} from this workspace."
    elif unfinished := next((run for run in mine if run.is_open), None):
        words = f"Nothing of {package} is in force in {environment} yet: {unfinished.name} is {unfinished.standing}."
        after = to_type("resume" if unfinished.can_go_on else "undo", unfinished.name)
    return NotReady(words, subject=package, next_step=after)


def without_version(named: str, claims: Sequence[Claim], environment: str) -> str:
    """The package that is meant by its name, or by its name and version; NotReady where another version is in force
    than the one that is named."""
    names = {claim.package for claim in claims}
    whole = [name for name in names if named not in names and named.startswith(f"{name}-")]
    for name in whole:
        there = newest(claim.version for claim in claims if claim.package == name)
        if named == f"{name}-{there}":
            return name
        if is_version(version := named.removeprefix(f"{name}-")):
            raise NotReady(
                f"{name} {there} is in force in {environment}, and not {version}.",
                subject=named,
                next_step=to_type("verify", name, environment),
            )
    return named
