"""Steps side by side, where an environment takes them: as many as it takes, none before what it uses, and whatever
goes wrong with one of them."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any, cast

import httpx
import pytest

from amphora.core.values.errors import UsageFault
from amphora.engine import rounds
from amphora.engine.rounds import rounds_of
from amphora.environments.answers import LONGEST_WAIT_S, wait_s
from amphora.environments.calls import Pace
from amphora.environments.stand_in import stands_before
from tests.contract.grounds import Ground
from tests.faults.test_faults import back, bring, tried, whole
from tests.faults.trouble import CHANGING, FAULTS, Fault, killed_after, lost_after, refused

over_http = pytest.mark.parametrize("ground", ["http"], indirect=True)


class Counting:
    """An environment that tells how many changing calls were under way at once."""

    def __init__(self, inside: Any) -> None:
        self.inside, self.now, self.most = inside, 0, 0
        self._lock = threading.Lock()
        stands_before(self, inside)

    def __getattr__(self, name: str) -> Any:
        method = getattr(self.inside, name)
        if name not in CHANGING:
            return method

        def call(*words: Any) -> Any:
            with self._lock:
                self.now += 1
                self.most = max(self.most, self.now)
            # As long as a call takes over a line: those that are begun beside it have to overlap.
            time.sleep(0.02)
            try:
                return method(*words)
            finally:
                with self._lock:
                    self.now -= 1

        return call


@over_http
def test_what_is_apart_goes_in_side_by_side(ground: Ground, monkeypatch: pytest.MonkeyPatch) -> None:
    counted: list[Counting] = []

    def counting(session: Any, name: str, at: int, fault: Fault) -> None:
        opened = session.open(name)
        counted.append(Counting(opened.environment))
        session._opened[name] = type(opened)(**vars(opened) | {"environment": counted[-1]})

    monkeypatch.setattr("tests.faults.test_faults.failing", counting)
    before = whole(ground)
    outcome = bring(ground, ground.export().path, 1, FAULTS[0])
    assert outcome.failure is None
    assert 1 < counted[0].most <= 4
    assert back(ground).is_as_before
    assert whole(ground) == before


@over_http
@pytest.mark.parametrize("fault", [refused, lost_after, killed_after])
def test_a_fault_beside_others_leaves_nothing_in_between(ground: Ground, fault: Fault) -> None:
    report = ground.export()
    count = len(ground.prepare(report).docket.steps)
    before = whole(ground)
    for at in sorted({*range(1, count, 4), count}):
        state = tried(ground, report.path, at, fault)
        if state in ("killed", "done"):
            assert back(ground).is_as_before
        assert whole(ground) == before
    bring(ground, report.path)


def test_fewer_calls_where_it_is_too_much_and_more_again() -> None:
    pace = Pace(4)
    pace.slower()
    pace.slower()
    pace.slower()
    assert pace.now == 1
    told = []
    for _ in range(12):
        pace.well()
        told.append(pace.now)
    assert told == [2, 2, 3, 3, 3, 4, 4, 4, 4, 4, 4, 4]


@pytest.mark.parametrize(
    ("said", "wanted"),
    [
        ("3", 3.0),
        ("Fri, 27 Nov 2026 12:00:04 GMT", 4.0),
        ("Fri, 27 Nov 2026 11:59:00 GMT", 0.0),
        ("Fri, 27 Nov 2026 18:00:00 GMT", LONGEST_WAIT_S),
        ("soon", 1.0),
        ("", 1.0),
    ],
)
def test_how_long_a_server_asks_to_wait(said: str, wanted: float) -> None:
    answer = httpx.Response(429, headers={"Retry-After": said} if said else {})
    assert wait_s(answer, datetime(2026, 11, 27, 12, tzinfo=UTC)) == wanted


def test_rounds() -> None:
    assert rounds_of(["a", "b", "c"], "") == rounds_of(["a", "b", "c"], "all") == [["a", "b", "c"]]
    assert rounds_of(["a", "b", "c"], "one-then-rest") == [["a"], ["b", "c"]]
    assert rounds_of(["a"], "one-then-rest") == [["a"]]
    assert rounds_of(["a", "b", "c"], "2") == [["a", "b"], ["c"]]
    for wrong in ("0", "-1", "two", "1.5"):
        with pytest.raises(UsageFault, match="--rounds is"):
            rounds_of(["a"], wrong)


@pytest.mark.parametrize(("goes_on", "begun"), [(False, ["a", "b"]), (True, ["a", "b", "c", "d"])])
def test_what_no_thread_has_taken_up_is_not_begun_once_one_is_bad(
    monkeypatch: pytest.MonkeyPatch, goes_on: bool, begun: list[str]
) -> None:
    tried: list[str] = []

    def apart(session: Any, part: Any, campaign: str) -> Any:
        tried.append(part.target)
        return SimpleNamespace(is_bad=part.target == "b", state="done")

    monkeypatch.setattr(rounds, "_apart", apart)
    monkeypatch.setattr(rounds, "MOST_AT_ONCE", 1)
    parts: Any = [SimpleNamespace(target=name, prepared=SimpleNamespace(docket=name)) for name in "abcd"]
    came = rounds._side_by_side(cast(Any, None), parts, "", goes_on)
    assert tried == begun
    assert [cast(Any, one).docket for one in came[len(begun) :]] == list("abcd")[len(begun) :]
