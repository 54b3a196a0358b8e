"""Two administrators at once, on one ledger of a real server, into the same targets: whatever they do in whatever order,
nothing is lost, doubled or left without a name."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import subprocess
import sys
import threading
from contextlib import closing
from pathlib import Path
from typing import Any

from tests.conftest import Done, run_program
from tests.faults.test_campaign_kills import everything
from tests.postgres.server import PASSWORD, Server

ROUNDS = int(os.environ.get("ROUNDS", "5"))
"""As often does each of the two do something. More of them: ROUNDS=50."""

SEED = int(os.environ.get("SEED", "1"))
TARGETS = ("grove-test", "grove-live")
PACKAGES = {"lists": ("Olive varieties", "Fruit condition"), "letters": ("Weigh slip", "Welcome to the co-operative")}
SECRET = {"LEDGER": PASSWORD}
CLOSED = {"done", "complete", "put back", "undone"}


def workspace_for(name: str, halcyon: Path, url: str) -> Path:
    """One administrator's own folder over the same environments."""
    folder = halcyon.parent / name
    folder.mkdir()
    text = (halcyon / "amphora.toml").read_text().replace("practice:", "practice:../halcyon/")
    text = text.replace("format = 1", f'format = 1\nledger = "{url}"\nledger_sign_in = "env:LEDGER"')
    (folder / "amphora.toml").write_text(text)
    shutil.copy(halcyon / "crosswalk.yaml", folder)
    shutil.copytree(halcyon / "packages", folder / "packages")
    return folder


class Administrator(threading.Thread):
    """Does things at random, and keeps what came of them."""

    def __init__(self, folder: Path, seed: int) -> None:
        super().__init__()
        self.folder, self.dice, self.done = folder, random.Random(seed), list[tuple[str, Done]]()

    def run(self) -> None:
        for _ in range(ROUNDS):
            words = self.next_words()
            # Programs of their own, for what the tests call otherwise is called one after the other.
            command = [sys.executable, "-m", "amphora", *words]
            told = subprocess.run(
                command,
                cwd=self.folder,
                env=os.environ | SECRET,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
            )
            self.done.append((" ".join(words), Done(told.returncode, told.stdout, told.stderr)))

    def next_words(self) -> list[str]:
        package, target = self.dice.choice(sorted(PACKAGES)), self.dice.choice(TARGETS)
        return self.dice.choice(
            [
                ["import", package, target, "--yes"],
                ["import", package, *TARGETS, "--yes", "--if-it-fails", "keep"],
                ["import", package, target, "--yes", "--copy", self.dice.choice("ab")],
                ["undo", "last", "--yes"],
                ["practice", "trouble", f"../halcyon/{target}.practice", "--after", str(self.dice.randint(0, 3))],
                ["resume"],
            ]
        )


def runs_of(folder: Path) -> list[dict[str, Any]]:
    runs: list[dict[str, Any]] = run_program(folder, "history", "--json", **SECRET).json["runs"]
    return runs


def test_nothing_is_lost_doubled_or_unnamed(halcyon: Path, server: Server) -> None:
    for name, items in PACKAGES.items():
        assert run_program(halcyon, "export", "grove-dev", *items, "--as", name).code == 0
    before = {target: everything(halcyon, target) for target in TARGETS}
    url = server.database()
    both = [
        Administrator(workspace_for(name, halcyon, url), SEED * 100 + number)
        for number, name in enumerate(("ann", "bo"))
    ]
    assert run_program(both[0].folder, "history", **SECRET).code == 0
    for one in both:
        one.start()
    for one in both:
        one.join()
    for words, done in (pair for one in both for pair in one.done):
        # Refused, busy, failed and put back, kept: all of these are answers. A fault is none, and neither is silence.
        assert done.code in (0, 1, 3, 4, 6, 75), (words, done.out, done.err)
        assert done.out or done.err, words
    folder = both[0].folder
    for target in TARGETS:
        with closing(sqlite3.connect(halcyon / f"{target}.practice")) as db:
            db.execute("delete from meta where name = 'trouble'")
            db.commit()
            # Everybody's items, once each: no creation took effect twice.
            names = [tuple(row) for row in db.execute("select kind, folder, name from items")]
            answered = [row[0] for row in db.execute("select id from answered")]
        assert len(names) == len(set(names))
        assert len(answered) == len(set(answered))
    # What is open has a name and a way on; then everything is taken back, the latest first.
    for run in [run for run in runs_of(folder) if run["state"] not in CLOSED and run["kind"] == "import"]:
        done = run_program(folder, "resume", run["name"], **SECRET)
        if done.code:
            done = run_program(folder, "undo", run["name"], "--yes", **SECRET)
        assert done.code == 0, (run, done.out, done.err)
    for run in runs_of(folder):
        if run["kind"] == "import" and run["state"] in ("done", "complete"):
            done = run_program(folder, "undo", run["name"], "--yes", **SECRET)
            assert done.code == 0, (run, done.out, done.err)
    assert {target: everything(halcyon, target) for target in TARGETS} == before
    assert {run["state"] for run in runs_of(folder)} <= CLOSED
    for target in TARGETS:
        assert run_program(folder, "edits", target, **SECRET).code == 0
