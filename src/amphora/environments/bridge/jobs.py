"""Calls that took effect, or are under way: whatever goes wrong behind them leaves open what is there."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager

from amphora.core.values.errors import AmphoraError, EnvironmentRefused, Uncertain
from amphora.core.values.model import Json
from amphora.environments.bridge.answer import Answer
from amphora.environments.bridge.parts import Call
from amphora.environments.bridge.paths import text_at
from amphora.environments.calls import LONGEST_JOB_S

LONGEST_PAUSE_S = 30.0


@contextmanager
def taken(what: str) -> Iterator[None]:
    """Behind a call that took effect: a refusal of what comes after it is none of the call, so that whoever asked has
    to look what is there."""
    try:
        yield
    except Uncertain:
        raise
    except AmphoraError as error:
        raise Uncertain(f"{error.message} By then {what}.", subject=error.subject, place=error.place) from error


def awaited(
    ask: Callable[[Call, Mapping[str, Json]], Answer],
    job: Call,
    answer: Answer,
    values: Mapping[str, Json],
    where: str,
) -> Answer:
    """What a job came to that a call began, which answered so; `values` stand for placeholders, and `where` is the
    platform's address. It is asked after as often as the platform says. EnvironmentRefused where it failed,
    Uncertain where nobody tells."""
    named = {"location": answer.location, "job": text_at(answer.body, job.said("job", "$.id"))}
    until = time.monotonic() + LONGEST_JOB_S
    while time.monotonic() < until:
        with taken("it was taken"):
            now = ask(job, {**values, **named})
        state = text_at(now.body, job.said("state") or "$.state")
        if state in job.said("done", []):
            return now
        if state in job.said("failed", []):
            words = text_at(now.body, job.said("words") or "$.message") or f"its job is {state}"
            raise EnvironmentRefused(f"{where} could not do it: {words}.", subject=where)
        time.sleep(min(now.wait_s or float(job.said("wait_s", 1.0)), LONGEST_PAUSE_S))
    raise Uncertain(f"{where} has been at it for an hour.", subject=where)
