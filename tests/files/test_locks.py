"""Locks between people and machines: one run at a time, waiting, and breaking what is stale."""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from amphora.core.values.errors import Unavailable
from amphora.ledger.ledger import Ledger
from amphora.ledger.locks import LEASE_S
from tests.postgres.server import PASSWORD, Server

NOW = "2026-11-02T12:00:00Z"
LONG_AGO = "2026-11-02T11:00:00Z"


Place = Path | str


@pytest.fixture(params=["file", "server"])
def place(request: pytest.FixtureRequest, tmp_path: Path, server: Server) -> Place:
    """Where a ledger is: in a file, and on a real server."""
    return tmp_path / "ledger.sqlite" if request.param == "file" else server.database()


@pytest.fixture
def ledger(place: Place) -> Iterator[Ledger]:
    one = Ledger(place, lambda: NOW, PASSWORD)
    yield one
    one.close()


def left(ledger: Ledger, host: str, process: int, renewed: str, began: str = "") -> None:
    """A lock that somebody holds, or held."""
    row = ("u", "ines", host, process, began, LONG_AGO, "olive 1 goes in", renewed)
    ledger._db.do("insert into locks values (?, ?, ?, ?, ?, ?, ?, ?)", row)


def is_free(ledger: Ledger) -> bool:
    try:
        with ledger.locks.held("u", "live", "keeper", "another"):
            return True
    except Unavailable:
        return False


def test_one_at_a_time_and_given_back(ledger: Ledger, place: Place) -> None:
    other = Ledger(place, lambda: NOW, PASSWORD)
    left(ledger, socket.gethostname(), os.getppid(), NOW)
    with pytest.raises(Unavailable, match=r"live is being changed just now: olive 1 goes in, by ines on"):
        other.locks.refuse_held("u", "live")
    other.locks.refuse_held("elsewhere", "test")
    ledger._db.do("delete from locks")
    assert is_free(other)
    assert is_free(other)
    other.close()


def test_a_process_that_is_gone_holds_nobody_up(ledger: Ledger) -> None:
    left(ledger, socket.gethostname(), os.getppid(), NOW, began="another birth")
    assert is_free(ledger)


@pytest.mark.parametrize(
    ("renewed", "breaks", "is_broken"),
    [
        (NOW, False, False),
        (NOW, True, False),
        (LONG_AGO, False, False),
        (LONG_AGO, True, True),
        ("", True, True),
        ("2026-11-02T11:50:00Z", True, False),
        ("2026-11-02T11:49:59Z", True, True),
    ],
)
def test_of_another_machine_only_a_stale_one_is_broken_and_only_knowingly(
    ledger: Ledger, renewed: str, breaks: bool, is_broken: bool
) -> None:
    assert LEASE_S == 600
    left(ledger, "another-machine", 1, renewed)
    ledger.locks.breaks = breaks
    assert is_free(ledger) is is_broken
    if not is_broken:
        with pytest.raises(Unavailable) as caught:
            ledger.locks.refuse_held("u", "live")
        is_stale = renewed == LONG_AGO
        assert ("--break-lock" in str(caught.value.next_step)) is is_stale
        assert (f"last heard of at {renewed}" in caught.value.message) is is_stale


def test_a_run_says_that_it_is_still_at_work(ledger: Ledger) -> None:
    with ledger.locks.held("u", "live", "keeper", "another"):
        ledger._db.do("update locks set renewed = ?", (LONG_AGO,))
        ledger.locks.renew("u")
        assert ledger._db.rows("select renewed from locks")[0][0] == NOW


def test_somebody_who_waits_gets_it_when_it_is_free(ledger: Ledger, place: Place) -> None:
    left(ledger, "another-machine", 1, NOW)

    def ends() -> None:
        time.sleep(0.3)
        other = Ledger(place, lambda: NOW, PASSWORD)
        other._db.do("delete from locks")
        other.close()

    ledger.locks.wait("u", "live")  # without patience nobody looks
    ledger.locks.patience_s = 0.01
    with pytest.raises(Unavailable):
        ledger.locks.wait("u", "live")
    ledger.locks.patience_s = 60.0
    thread = threading.Thread(target=ends)
    thread.start()
    ledger.locks.wait("u", "live")
    thread.join()
    assert is_free(ledger)
