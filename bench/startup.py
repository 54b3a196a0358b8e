"""Measures what commands on the demo cost over `amphora --help`, which does nothing but start.

CPU seconds of whole processes, each paired with a `--help` right before it, for the machine's speed drifts: printed
is the median of the ratios, and of the seconds. `python bench/startup.py [ROUNDS]` prints a table."""

from __future__ import annotations

import os
import resource
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("amphora")
PACKAGE, TARGET = "olive-intake", "grove-test"
LOOKING: tuple[tuple[str, ...], ...] = (
    ("env", "list"),
    ("env", "test", "grove-dev"),
    ("survey", "grove-dev"),
    ("peek", PACKAGE),
    ("check", PACKAGE, TARGET),
    ("map", PACKAGE, TARGET),
    ("compare", PACKAGE, TARGET),
    ("import", PACKAGE, TARGET, "--preview"),
    ("edits", TARGET),
    ("history",),
    ("overview",),
    ("aftercare",),
)
AFTER: tuple[tuple[str, ...], ...] = (
    ("verify", "last"),
    ("history", "last"),
    ("aftercare",),
    ("edits", TARGET),
    ("undo", "last", "--preview"),
)


def cpu(folder: Path, words: tuple[str, ...]) -> float:
    """User and system seconds of one call."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, stdin=subprocess.DEVNULL, check=False)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def show(name: str, pairs: list[tuple[float, float]]) -> None:
    """One row: the command, its seconds, and how many times those of `--help`."""
    ratio = statistics.median(one / bare for bare, one in pairs)
    print(f"{name:<38} {statistics.median(one for _, one in pairs):.2f} s  {ratio:.2f}", flush=True)


def main(rounds: int) -> None:
    """Prints the table."""
    # Whoever installs it has bytecode; without, each start would compile every module anew.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    with tempfile.TemporaryDirectory() as kept:
        folder = Path(kept) / "grove"
        folder.mkdir()
        cpu(folder, ("init",))
        cpu(folder, ("practice", "new", "."))
        cpu(folder, ("export", "grove-dev", "Harvest Intake", "--as", PACKAGE))
        cpu(folder, ("map", PACKAGE, TARGET, "--accept"))
        clean = Path(kept) / "clean"
        shutil.copytree(folder, clean)

        def measured(words: tuple[str, ...]) -> None:
            cpu(folder, words)
            show(" ".join(words), [(cpu(folder, ("--help",)), cpu(folder, words)) for _ in range(rounds)])

        for words in LOOKING:
            measured(words)
        pairs = []
        for _ in range(rounds):
            # Each import is the first one into an untouched target.
            shutil.rmtree(folder)
            shutil.copytree(clean, folder)
            pairs.append((cpu(folder, ("--help",)), cpu(folder, ("import", PACKAGE, TARGET, "--yes"))))
        show(f"import {PACKAGE} {TARGET}", pairs)
        for words in AFTER:
            measured(words)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 9)
