"""One import into many targets, in rounds: all pass the gate before any is touched, and the first bad one stops what
has not begun."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from amphora.core.plan.docket import Docket
from amphora.core.plan.gate import Reason
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.next_step import advice, to_type
from amphora.engine.docket import Prepared
from amphora.engine.gate import ImportRequest, agreed, in_the_way
from amphora.engine.imports import import_prepared, is_recorded
from amphora.engine.runs.forwards import Keeper, Outcome
from amphora.engine.session import Session
from amphora.engine.verify import Verified

ALL = "all"
ONE_THEN_REST = "one-then-rest"

NOTHING_TO_DO = "nothing to do"
NOT_BEGUN = "not begun"


@dataclass(frozen=True)
class Came:
    """What became of one target."""

    docket: Docket
    state: str
    outcome: Outcome | None = None
    verified: Sequence[Verified] = field(default=())
    trouble: AmphoraError | None = None

    @property
    def is_bad(self) -> bool:
        """Whether what has not begun should wait: it failed, or is not what was promised."""
        return self.trouble is not None or any(not one.is_as_promised for one in self.verified)


def rounds_of(names: Sequence[str], how: str) -> list[list[str]]:
    """The targets round by round: `all` in one, the first and then the rest, or so many in each. UsageFault for
    anything else.

    >>> rounds_of(["a", "b", "c"], "one-then-rest"), rounds_of(["a", "b", "c"], "2")
    ([['a'], ['b', 'c']], [['a', 'b'], ['c']])
    """
    if how in ("", ALL):
        return [list(names)]
    if how == ONE_THEN_REST:
        return [part for part in (list(names[:1]), list(names[1:])) if part]
    if not how.isdecimal() or int(how) < 1:
        raise UsageFault(
            f"--rounds is {ONE_THEN_REST}, {ALL} or a number, not {how!r}.",
            subject=how,
            next_step=to_type("import", "--help"),
        )
    size = int(how)
    return [list(names[start : start + size]) for start in range(0, len(names), size)]


def refuse_any(session: Session, dockets: Sequence[Prepared], request: ImportRequest) -> None:
    """NotReady while anything is in the way of any target: what all share is told once."""
    reasons = {one.docket.target: _stopping(session, one, request) for one in dockets}
    closed = {target: mine for target, mine in reasons.items() if mine}
    if not closed:
        return
    shared = [
        r for r in next(iter(closed.values())) if len(closed) > 1 and all(_is_in(r, o) for o in closed.values())
    ]
    details = [line for reason in shared for line in _told("all of them", reason)]
    for target, mine in closed.items():
        details += [line for reason in mine if not _is_in(reason, shared) for line in _told(target, reason)]
    first = next(iter(closed.values()))[0]
    raise NotReady(
        f"{dockets[0].docket.title} can't go to {len(closed)} of {len(dockets)} targets as it stands; nothing was"
        " touched anywhere.",
        subject=next(iter(closed)),
        details=details,
        next_step=first.next_step or advice("Settle what is in the way, or name the other targets only."),
    )


def _stopping(session: Session, prepared: Prepared, request: ImportRequest) -> list[Reason]:
    reasons = in_the_way(session, prepared, request)
    return agreed(reasons) if request.is_terminal and not request.yes else reasons


def _is_in(reason: Reason, others: Sequence[Reason]) -> bool:
    """Whether the same is in the way there, but for the target's name."""
    return any((reason.why, reason.details) == (other.why, other.details) for other in others)


def _told(target: str, reason: Reason) -> Iterator[str]:
    yield f"{target}: {reason.message}"
    yield from (f"  {line}" for line in reason.details)


def carried(
    session: Session,
    dockets: Sequence[Prepared],
    rounds: Sequence[Sequence[str]],
    goes_on: bool,
    keeper: Keeper | None = None,
) -> list[Came]:
    """Carries the dockets out, round by round; after a bad round nothing else is begun unless it `goes_on`. What
    became of each target, in order."""
    by_name = {one.docket.target: one for one in dockets}
    found: list[Came] = []
    is_stopped = False
    for names in rounds:
        # Within a round, too: what has not been touched yet needs no putting back.
        for name in names:
            came = Came(by_name[name].docket, NOT_BEGUN) if is_stopped else _one(session, by_name[name], keeper)
            found.append(came)
            is_stopped = is_stopped or (came.is_bad and not goes_on)
    return found


def _one(session: Session, prepared: Prepared, keeper: Keeper | None) -> Came:
    docket = prepared.docket
    if docket.is_settled and is_recorded(session, docket):
        return Came(docket, NOTHING_TO_DO)
    try:
        outcome, verified = import_prepared(session, prepared, keeper=keeper)
    except AmphoraError as error:
        # Refused before it began: somebody was quicker, or the target can't be reached any more.
        return Came(docket, NOT_BEGUN, trouble=error)
    return Came(docket, outcome.run.state, outcome, verified, outcome.failure)
