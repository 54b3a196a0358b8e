"""Trouble: an environment and a ledger that fail at a chosen moment, in a chosen way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from amphora.core.values.errors import EnvironmentRefused, LedgerTrouble, Uncertain
from amphora.engine.session import Session
from amphora.environments.contract import Environment
from amphora.environments.stand_in import stands_before

CHANGING = ("write", "publish", "take_back", "switch", "load", "retire")


class Killed(BaseException):
    """As if the process had been killed: nothing may catch it and go on."""


def refused(call: Callable[[], Any]) -> Any:
    """The environment says no."""
    raise EnvironmentRefused("no more today")


def lost_before(call: Callable[[], Any]) -> Any:
    """The call never arrived, and nobody knows."""
    raise Uncertain("the line went dead")


def lost_after(call: Callable[[], Any]) -> Any:
    """It arrived; its answer didn't."""
    call()
    raise Uncertain("the line went dead")


def odd_answer(call: Callable[[], Any]) -> Any:
    """It arrived, and its answer can't be read."""
    call()
    raise ValueError("what is that supposed to mean?")


def killed_before(call: Callable[[], Any]) -> Any:
    """The process ends just before the call."""
    raise Killed


def killed_after(call: Callable[[], Any]) -> Any:
    """The process ends just after the call."""
    call()
    raise Killed


FAULTS = (refused, lost_before, lost_after, odd_answer, killed_before, killed_after)
Fault = Callable[[Callable[[], Any]], Any]


class Failing:
    """An environment whose nth changing call goes wrong."""

    def __init__(self, inside: Environment, at: int, fault: Fault) -> None:
        self.inside, self.left, self.fault = inside, at, fault
        stands_before(self, inside)

    def __getattr__(self, name: str) -> Any:
        method = getattr(self.inside, name)
        if name not in CHANGING:
            return method

        def call(*words: Any) -> Any:
            self.left -= 1
            if self.left == 0:
                return self.fault(lambda: method(*words))
            return method(*words)

        return call


def failing(session: Session, name: str, at: int, fault: Fault) -> Failing:
    """Makes an environment of a session fail at its nth changing call."""
    opened = session.open(name)
    wrapped = Failing(opened.environment, at, fault)
    session._opened[name] = replace(opened, environment=wrapped)
    return wrapped


class Locked:
    """A ledger's database that can't be written from the nth write on."""

    def __init__(self, session: Session, at: int) -> None:
        self.left = at
        database = session.ledger._db
        self._do, self._transaction = database.do, database.transaction
        database.do = self.do  # type: ignore[method-assign]
        database.transaction = self.transaction  # type: ignore[method-assign]

    def do(self, *words: Any, **more: Any) -> Any:
        self._count()
        return self._do(*words, **more)

    def transaction(self, is_awaited: bool = True) -> Any:
        self._count()
        return self._transaction(is_awaited)

    def _count(self) -> None:
        self.left -= 1
        if self.left <= 0:
            raise LedgerTrouble("database is locked")
