"""Which test runs which lines, and how long it takes: so that a changed line is tried by the tests that reach it, the
quick ones first. It is loaded as a plugin of pytest (`-p sharpness.reached`) in a process that measures coverage; every
process that a test starts is measured under that test's name too.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path

import coverage
import pytest

SETTINGS = """[run]
source = amphora
parallel = true
data_file = {folder}/.reached/data
context = ${{REACHED_BY-}}
core = ctrace
"""
QUICK_S = 0.5
ENOUGH = 48
"""A mutant is tried by all tests that take no longer than this, by every story, and by so many of the others."""
STORIES = "tests/program/test_stories.py"
"""Each tells all that a dozen commands say, so one of them notices more than a dozen tests of one thing each."""

# Python loads `sitecustomize` by itself, in the processes that tests start too, whatever they are.
START = "import coverage\ncoverage.process_startup()\n"


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    """Whatever is run until the next test is run by this one."""
    os.environ["REACHED_BY"] = item.nodeid
    current = coverage.Coverage.current()
    if current is not None:
        current.switch_context(item.nodeid)
    return (yield)


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """Notes how long each part of a test took, one line a part; processes of xdist each append their own."""
    folder = os.environ.get("REACHED_IN")
    # Not once more where xdist collects the reports of its processes: each test would seem to take twice as long.
    if folder and report.passed and not hasattr(report, "node"):
        with (Path(folder) / f"seconds-{os.getpid()}").open("a", encoding="utf-8") as out:
            out.write(json.dumps([report.nodeid, report.duration]) + "\n")


@dataclass(frozen=True)
class Reached:
    """The tests by file and line, and the seconds that each took."""

    tests: dict[str, dict[int, set[str]]]
    seconds: dict[str, float]

    def of(self, name: str, first: int, last: int) -> list[str]:
        """Tests that run any of some lines of a file of the package: all the quick ones, the stories, and then some
        of the others, from each module in turn, so that whoever has time for a part of these tries a line in many
        ways. What these let pass is told as survived, even if another might have caught it."""
        lines = self.tests.get(name, {})
        found = set[str]().union(*(lines.get(line, set()) for line in range(first, last + 1)))
        if "" in found:
            # Run while a module of tests was loaded: any test may depend on what came of it.
            found |= {test for test, took_s in self.seconds.items() if took_s <= QUICK_S}
        found.discard("")
        modules: dict[str, list[str]] = {}
        for test in sorted(found, key=lambda test: (self.seconds.get(test, 0.0), test)):
            modules.setdefault(test.partition("::")[0], []).append(test)
        in_turn = [test for round_ in zip_longest(*modules.values()) for test in round_ if test is not None]
        quick = [test for test in in_turn if self.seconds.get(test, 0.0) <= QUICK_S]
        slow = [test for test in in_turn if self.seconds.get(test, 0.0) > QUICK_S]
        stories = [test for test in slow if test.startswith(STORIES)]
        return quick + stories + [test for test in slow if test not in stories][:ENOUGH]


def reached_in(folder: Path, words: list[str]) -> Reached:
    """Runs the tests of a copy of the project once, measured; exits if one is red."""
    kept = folder / ".reached"
    kept.mkdir()
    (kept / "sitecustomize.py").write_text(START, encoding="utf-8")
    (kept / "settings").write_text(SETTINGS.format(folder=folder), encoding="utf-8")
    paths = {
        "PYTHONPATH": os.pathsep.join((str(folder / "src"), str(kept))),
        "PYTHONDONTWRITEBYTECODE": "1",
        "COVERAGE_PROCESS_START": str(kept / "settings"),
        "REACHED_IN": str(kept),
    }
    command = [sys.executable, "-m", "pytest", "-n", "2", "-p", "sharpness.reached", "-p", "no:cacheprovider", *words]
    done = subprocess.run(command, cwd=folder, env=os.environ | paths, capture_output=True, text=True)
    if done.returncode != 0:
        # Without this a test that can't run in a copy would catch every mutant there is.
        sys.exit(f"The tests are red without any mutant: run `make test` first.\n{done.stdout[-2000:]}")
    measured = coverage.Coverage(config_file=str(kept / "settings"))
    measured.combine([str(kept)])
    data = measured.get_data()
    # A process that a test starts with an environment of its own runs the installed project, not this copy of it.
    names = [name for name in data.measured_files() if Path(name).is_relative_to(folder)]
    tests = {
        str(Path(name).relative_to(folder)): {line: set(by) for line, by in data.contexts_by_lineno(name).items()}
        for name in names
    }
    seconds: dict[str, float] = {}
    for path in kept.glob("seconds-*"):
        for line in path.read_text(encoding="utf-8").splitlines():
            test, took_s = json.loads(line)
            seconds[test] = seconds.get(test, 0.0) + took_s
    return Reached(tests, seconds)
