"""A call that took effect and a target that then can't be looked at: never called failed, never called put back."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from amphora.core.plan.decisions import Decisions
from amphora.core.values.errors import BrokenOff, Unavailable
from amphora.engine.docket import prepare
from amphora.engine.imports import import_prepared
from amphora.environments.stand_in import stands_before
from amphora.files.package import read_package
from tests.contract.grounds import Ground
from tests.faults.test_faults import back, whole
from tests.faults.trouble import CHANGING


class Blinded:
    """An environment that answers its nth changing call, and nothing at all after it, for a while."""

    def __init__(self, inside: Any, at: int, dark: int) -> None:
        self.inside, self.left, self.dark = inside, at, dark
        stands_before(self, inside)

    def __getattr__(self, name: str) -> Any:
        method = getattr(self.inside, name)
        if name in ("close", "describe"):
            return method

        def call(*words: Any) -> Any:
            if self.left <= 0 and self.dark > 0:
                self.dark -= 1
                raise Unavailable("503: come back later")
            result = method(*words)
            self.left -= name in CHANGING
            return result

        return call


@pytest.mark.parametrize("dark", [1, 2, 10**6])
def test_a_read_back_that_fails_is_no_failed_call(ground: Ground, dark: int) -> None:
    report = ground.export()
    before = whole(ground)
    session = ground.session()
    opened = session.open(ground.target)
    prepared = prepare(session, read_package(report.path), ground.target, Decisions())
    session._opened[ground.target] = replace(opened, environment=Blinded(opened.environment, 1, dark))
    outcome, _ = import_prepared(session, replace(prepared, opened=session.open(ground.target)))
    now = whole(ground)
    if outcome.failure is None:
        assert now != before
    elif isinstance(outcome.failure, BrokenOff):
        assert now != before
        assert outcome.run.state == "broken off"
        assert f"amphora undo {outcome.run.name}" in outcome.failure.next_step.line
        assert ground.session().ledger.journal.open_runs(prepared.side.uid)
    else:
        assert now == before
        assert outcome.run.state == "put back"
    if now != before:
        assert back(ground).is_as_before
    assert whole(ground) == before
