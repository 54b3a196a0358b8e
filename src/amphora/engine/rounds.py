"""One import into many targets, in rounds: all pass the gate before any is touched, and the first bad one stops what
has not begun."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import field, replace

from amphora.core.plan.commands import to_compare
from amphora.core.plan.docket import Docket
from amphora.core.plan.reasons import Reason
from amphora.core.values.digits import is_number
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice, to_type
from amphora.engine.docket import Prepared, prepare
from amphora.engine.gate import ImportRequest, agreed, in_the_way
from amphora.engine.imports import import_prepared, is_recorded
from amphora.engine.runs.attention import attended
from amphora.engine.runs.outcome import Keeper, Outcome
from amphora.engine.session import Session
from amphora.engine.verify import Verified
from amphora.ledger.records import Run

ALL = "all"
ONE_THEN_REST = "one-then-rest"

NOTHING_TO_DO = "nothing to do"
NOT_BEGUN = "not begun"


MOST_AT_ONCE = 4
"""So many targets of one round are worked on at once: what is told of them has to be read."""


@dataclass(frozen=True)
class Part:
    """What is to be done in one target: a docket, the run that goes on with it if there is one, and the name that a
    new one is to have, with the reason for it."""

    prepared: Prepared
    run: Run | None = None
    name: str = ""
    why: str = ""

    @property
    def target(self) -> str:
        return self.prepared.docket.target


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
    # The default, too: who wants to be careful says so.
    if how in ("", ALL):
        return [list(names)]
    if how == ONE_THEN_REST:
        return [part for part in (list(names[:1]), list(names[1:])) if part]
    if not is_number(how) or int(how) < 1:
        raise UsageFault(
            f"--rounds is {ONE_THEN_REST}, {ALL} or a number, not {how!r}.",
            subject=how,
            next_step=to_type("import", "--help"),
        )
    size = int(how)
    return [list(names[start : start + size]) for start in range(0, len(names), size)]


def refuse_twins(dockets: Sequence[Prepared]) -> None:
    """NotReady where two of the targets have one uid: what came into one would be taken for what is in the other."""
    known: dict[str, str] = {}
    for docket in (one.docket for one in dockets):
        other = known.setdefault(docket.target_uid, docket.target)
        if other != docket.target:
            raise NotReady(
                f"{other} and {docket.target} say that they are one environment; nothing was touched anywhere.",
                subject=docket.target,
                details=[f"Both have the uid {docket.target_uid!r}."],
                next_step=advice("Name one of them; if one is a copy of the other, give it a uid of its own first."),
            )


def refuse_any(parts: Sequence[Part], reasons: Mapping[str, Sequence[Reason]], targets: int) -> None:
    """NotReady while anything is in the way of any target: what all share is told once."""
    # Of all targets before any is touched: the third must not stop what two have got already.
    closed = {target: mine for target, mine in reasons.items() if mine}
    if not closed:
        return
    shared = [
        r for r in next(iter(closed.values())) if len(closed) > 1 and all(_is_in(r, o) for o in closed.values())
    ]
    details = [line for reason in shared for line in _told("all of them", reason)]
    for target, mine in closed.items():
        details += [line for reason in mine if not _is_in(reason, shared) for line in _told(target, reason)]
    # One next step: settled for one target, it is often settled for all.
    first = next(iter(closed.values()))[0]
    raise NotReady(
        f"{parts[0].prepared.docket.title} can't go to {len(closed)} of {targets} targets as it stands; nothing was"
        " touched anywhere.",
        subject=next(iter(closed)),
        details=details,
        next_step=first.next_step or advice("Settle what is in the way, or name the other targets only."),
    )


def stopping(session: Session, prepared: Prepared, request: ImportRequest) -> list[Reason]:
    """What stands in the way of one target, but for what somebody at a terminal is going to agree to."""
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
    parts: Sequence[Part],
    rounds: Sequence[Sequence[str]],
    goes_on: bool,
    campaign: str = "",
    keeper: Keeper | None = None,
) -> list[Came]:
    """Carries out what is to be done in each target, round by round; after a bad round nothing else is begun unless
    it `goes_on`. What became of each target, in order."""
    by_name = {part.target: part for part in parts}
    found: list[Came] = []
    is_stopped = False
    with attended() as attention:
        for names in rounds:
            mine = [by_name[name] for name in names if name in by_name]
            if is_stopped or attention.is_wanted:
                found += [Came(part.prepared.docket, NOT_BEGUN) for part in mine]
                continue
            # One that goes on holds what it kept open in this thread; there are never many of them.
            if len(mine) > 1 and all(part.run is None for part in mine):
                came = _side_by_side(session, mine, campaign, goes_on)
            else:
                came = _in_turn(session, mine, campaign, goes_on, keeper)
            found += came
            is_stopped = any(one.is_bad for one in came) and not goes_on
    return found


def _in_turn(
    session: Session, parts: Sequence[Part], campaign: str, goes_on: bool, keeper: Keeper | None
) -> list[Came]:
    found: list[Came] = []
    for part in parts:
        # Within a round, too: what has not been touched yet needs no putting back.
        is_stopped = any(one.is_bad for one in found) and not goes_on
        found.append(Came(part.prepared.docket, NOT_BEGUN) if is_stopped else _one(session, part, campaign, keeper))
    return found


def _side_by_side(session: Session, parts: Sequence[Part], campaign: str, goes_on: bool) -> list[Came]:
    """Several targets at once, each with a session of its own: a connection belongs to the thread that opened it.
    Those that no thread has taken up by the time that one is bad are not begun."""
    is_bad = threading.Event()

    def one(part: Part) -> Came:
        if is_bad.is_set() and not goes_on:
            return Came(part.prepared.docket, NOT_BEGUN)
        came = _apart(session, part, campaign)
        if came.is_bad:
            is_bad.set()
        return came

    with ThreadPoolExecutor(MOST_AT_ONCE) as pool:
        # In a copy of this context: the signals that arrive here are looked at there.
        futures = [pool.submit(copy_context().run, one, part) for part in parts]
        return [future.result() for future in futures]


def _apart(session: Session, part: Part, campaign: str) -> Came:
    docket = part.prepared.docket

    def tell(what: str, done: int, total: int) -> None:
        session.listener(what if what.startswith(part.target) else f"{part.target}: {what}", done, total)

    own = Session(session.workspace, tell)
    try:
        # As the command line said: a session of its own would wait as long as usual.
        own.ledger.locks.patience_s = session.ledger.locks.patience_s
        own.ledger.locks.breaks = session.ledger.locks.breaks
        mine = part.prepared
        # Looked at anew, for a docket holds the session that it was made in.
        again = prepare(own, mine.original or mine.contents, part.target, mine.said)
        if again.docket.fingerprint != docket.fingerprint:
            raise NotReady(
                f"Something moved in {part.target} since it was looked at; nothing was touched there.",
                subject=part.target,
                next_step=to_compare(docket),
            )
        return _one(own, replace(part, prepared=again), campaign, None)
    except AmphoraError as error:
        return Came(docket, NOT_BEGUN, trouble=error)
    finally:
        own.close()


def _one(session: Session, part: Part, campaign: str, keeper: Keeper | None) -> Came:
    docket = part.prepared.docket
    if part.run is None and docket.is_settled and is_recorded(session, docket):
        return Came(docket, NOTHING_TO_DO)
    try:
        outcome, verified = import_prepared(session, part.prepared, part.run, keeper, campaign, part.name, part.why)
    except AmphoraError as error:
        # Refused before it began: somebody was quicker, or the target can't be reached any more.
        return Came(docket, NOT_BEGUN, trouble=error)
    return Came(docket, outcome.run.state, outcome, verified, outcome.failure)
