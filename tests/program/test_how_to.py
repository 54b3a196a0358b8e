"""The jobs of the how-to page, done as they stand there."""

from __future__ import annotations

import re
import shlex
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import run_program
from tests.contract.conftest import nodered_ground

PAGE = Path(__file__).parents[2] / "docs" / "how-to.md"


@dataclass(frozen=True)
class Line:
    """One command of a job, and the exit code that is promised."""

    words: list[str]
    code: int


def jobs() -> Iterator[tuple[str, list[Line]]]:
    text = PAGE.read_text(encoding="utf-8")
    for title, body in re.findall(r"^## (\d+\. [^\n]+)\n(.*?)(?=^## |\Z)", text, re.S | re.M):
        lines = []
        for block in re.findall(r"```sh\n(.*?)```", body, re.S):
            for line in block.splitlines():
                command, _, note = line.partition("  #")
                code = re.search(r"exit (\d+)", note)
                lines.append(Line(shlex.split(command), int(code[1]) if code else 0))
        yield title, lines


JOBS = dict(jobs())


@pytest.fixture(scope="module")
def first(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder begun as the page says."""
    folder = tmp_path_factory.mktemp("first")
    for words in (["init"], ["practice", "new", "."]):
        assert run_program(folder, *words).code == 0
    return folder


@pytest.fixture
def begun(first: Path, tmp_path: Path) -> Path:
    """A copy of it for one job."""
    return Path(shutil.copytree(first, tmp_path / "begun"))


def test_there_are_twenty_jobs() -> None:
    assert len(JOBS) >= 20
    assert all(lines for lines in JOBS.values())


@pytest.mark.parametrize("title", [title for title in JOBS if "real runtimes" not in title])
def test_a_job_is_done_as_it_stands_there(title: str, begun: Path) -> None:
    variables = {"XDG_CONFIG_HOME": str(begun / "home"), "GATE_TOKEN": "k3-vW92-xQ61"}
    for line in JOBS[title]:
        assert line.words[0] == "amphora"
        done = run_program(begun, *line.words[1:], **variables)
        # Comparing tells by its code that there is something to import: that is no stop.
        fine = {line.code, 1} if line.words[1] == "compare" and not line.code else {line.code}
        assert done.code in fine, (line.words, done.out, done.err)


@pytest.mark.xdist_group("nodered")
def test_a_first_crossing_with_real_runtimes(begun: Path, runtimes: tuple[str, str]) -> None:
    (begun / "seeds").mkdir()
    nodered_ground(begun / "seeds", runtimes).prepare  # noqa: B018
    for line in JOBS["21. A first crossing with real runtimes"]:
        words = [
            word.replace("http://127.0.0.1:1880", runtimes[0]).replace("http://127.0.0.1:1881", runtimes[1])
            for word in line.words
        ]
        done = run_program(begun, *words[1:], LINE_TWO_TOKEN="made-up-token")
        assert done.code == line.code, (words, done.out, done.err)
