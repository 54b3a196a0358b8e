"""An import into two targets, of which one has to pause, killed at random moments: what is done afterwards ends in what was
promised, or in what was before, by all that is in both targets; nothing takes effect twice."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from amphora.practice.platform import Platform
from tests.conftest import run_program
from tests.faults.test_kills import killed

PAUSING = """connections:
  lab-exchange-dev: {made_from: integration:lab/lab-exchange, grove-test: lab-exchange-test}
  mill-db-dev: {grove-live: mill-main, grove-test: mill-db-test}
  office-db-dev: {grove-live: office-main, grove-test: office-db-test}
settings:
  lab-exchange-every_minutes: {any: 5}
  lab-result-intake-batch: {any: 20}
"""
KILLS = int(os.environ.get("KILLS", "5"))
"""How many are tried. More of them: KILLS=200."""

SEED = int(os.environ.get("SEED", "1"))
TARGETS = ("grove-test", "grove-live")
NEVER = 100_000
LAST = 150
"""By then a command is over."""

Everything = dict[str, list[tuple[str, ...]]]


def everything(halcyon: Path, name: str = "grove-live") -> list[tuple[str, ...]]:
    """All of an environment that counts, without revisions, ids and times."""
    platform = Platform(halcyon / f"{name}.practice", "keeper@halcyon.example", lambda: "")
    try:
        return sorted(
            (i.kind, i.folder, i.name, i.title, str(i.live), str(i.draft), str(i.is_on), str(i.row_count))
            for i in platform.everything()
        )
    finally:
        platform.close()


class Trial:
    """One fresh copy of a workspace, and what is done in it."""

    def __init__(self, folder: Path, dice: random.Random) -> None:
        self.folder, self.dice = folder, dice

    def all_there(self) -> Everything:
        return {name: everything(self.folder, name) for name in TARGETS}

    def effects(self) -> int:
        """How many creations took effect, in both targets."""
        count = 0
        for name in TARGETS:
            with closing(sqlite3.connect(self.folder / f"{name}.practice")) as db:
                count += db.execute("select count(*) from answered").fetchone()[0]
        return count

    def perhaps_killed(self, *words: str) -> None:
        """Runs a command, which may be killed once more."""
        killed(self.folder, self.dice.randint(1, LAST) if self.dice.random() < 0.4 else NEVER, *words)

    def asked(self, *words: str) -> Any:
        return run_program(self.folder, *words, "--json").json

    def open_things(self) -> tuple[list[str], list[dict[str, Any]]]:
        bare = self.asked()
        runs = [run for run in self.asked("history")["runs"] if run["name"] in bare["open_runs"]]
        return bare["open_campaigns"], runs

    def brought(self) -> None:
        """Goes on until all is done, by what the program offers."""
        for _ in range(25):
            campaigns, runs = self.open_things()
            if not campaigns:
                # Killed before anything was begun, or done.
                if self.is_done():
                    return
                self.perhaps_killed("import", "lab", *TARGETS, "--yes")
                continue
            # Whether it got to its pause or was killed on the way: the same two ways lead on.
            waiting = [run for run in runs if run["environment"] == "grove-live"]
            if waiting and self.dice.random() < 0.7:
                self.perhaps_killed("resume", waiting[0]["name"], "--set", "lab-exchange-dev=exchange-live")
            else:
                self.perhaps_killed("resume", campaigns[0])
        raise AssertionError(f"never done: {self.open_things()}")

    def is_done(self) -> bool:
        runs = [
            run
            for run in self.asked("history")["runs"]
            if run["state"] in ("done", "complete") and run["kind"] == "import"
        ]
        return {run["environment"] for run in runs} == set(TARGETS)

    def taken_back(self) -> None:
        """Undoes until nothing is left to undo."""
        for _ in range(12):
            if run_program(self.folder, "undo", "many-1", "--preview").code == 3:
                return
            self.perhaps_killed("undo", "many-1", "--yes")
        raise AssertionError(f"never undone: {self.open_things()}")


@pytest.fixture
def fresh(halcyon: Path) -> Path:
    (halcyon / "crosswalk.yaml").write_text(PAUSING, encoding="utf-8")
    assert run_program(halcyon, "export", "grove-dev", "Lab exchange", "Lab result intake", "--as", "lab").code == 0
    made = ("practice", "connect", "grove-live.practice", "exchange-live", "--type", "exchange")
    assert run_program(halcyon, *made).code == 0
    return halcyon


def test_it_ends_as_promised_or_as_before_wherever_it_was_killed(fresh: Path, tmp_path: Path) -> None:
    dice = random.Random(SEED)
    trials = iter(range(KILLS + 1))

    def trial() -> Trial:
        folder = tmp_path / f"trial-{next(trials)}"
        shutil.copytree(fresh, folder)
        return Trial(folder, dice)

    peace = trial()
    before, none = peace.all_there(), peace.effects()
    run_program(peace.folder, "import", "lab", *TARGETS, "--yes")
    run_program(peace.folder, "resume", "grove-live-1", "--set", "lab-exchange-dev=exchange-live")
    promised, created = peace.all_there(), peace.effects() - none
    assert (peace.is_done(), created) == (True, 22)
    for number in range(KILLS):
        one = trial()
        at = dice.randint(1, LAST)
        killed(one.folder, at, "import", "lab", *TARGETS, "--yes")
        if dice.random() < 0.5:
            one.brought()
            assert one.all_there() == promised, (number, at)
            assert one.effects() - none == created, (number, at)
            if dice.random() < 0.5:
                run_program(one.folder, "undo", "many-1", "--yes")
                assert one.all_there() == before, (number, at)
        else:
            one.taken_back()
            assert one.all_there() == before, (number, at)
        shutil.rmtree(one.folder)
