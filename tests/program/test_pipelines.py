"""What a pipeline needs: the same line again, names, codes, documents for machines; and the examples of
docs/pipelines.md, run as they stand there."""

from __future__ import annotations

import json
import os
import re
import socket
import stat
import subprocess
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from ruamel.yaml import YAML

from amphora.ledger.ledger import Ledger
from tests.conftest import Program

PAGE = (Path(__file__).parents[2] / "docs" / "pipelines.md").read_text(encoding="utf-8")
BLOCKS = re.findall(r"```(\w+)\n(.*?)```", PAGE, re.DOTALL)
[SCRIPT] = [text for kind, text in BLOCKS if kind == "bash"]
[JOBS, STAGES] = [YAML(typ="safe").load(text) for kind, text in BLOCKS if kind == "yaml"]


@pytest.fixture
def intake(amphora: Program, halcyon: Path) -> Program:
    """The package of the page, and the program on the path of whoever runs its lines."""
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    folder = halcyon / "bin"
    folder.mkdir()
    program = folder / "amphora"
    program.write_text(f'#!/bin/sh\nexec {sys.executable} -m amphora "$@"\n')
    program.chmod(program.stat().st_mode | stat.S_IXUSR)
    return amphora


def shell(halcyon: Path, script: str, *words: str, **more: str) -> tuple[int, str]:
    environment = os.environ | {"PATH": f"{halcyon / 'bin'}:{os.environ['PATH']}", "RETRY_S": "0", **more}
    done = subprocess.run(
        ["bash", "-c", script, "deliver.sh", *words], cwd=halcyon, env=environment, capture_output=True, text=True
    )
    return done.returncode, done.stdout + done.stderr


def lines_of(text: str) -> list[dict[str, Any]]:
    return [json.loads(line) for line in text.splitlines()]


def test_the_script_delivers_and_can_be_run_again(intake: Program, halcyon: Path) -> None:
    code, told = shell(halcyon, SCRIPT, "olive-intake", "grove-live", "7")
    # Done, and a secret has to be entered by hand: that is what the script asks for.
    assert (code, told) == (1, "build-7 is in grove-live, and somebody has to look: see result.json\n")
    result = json.loads((halcyon / "result.json").read_text())
    assert (result["amphora_output"], result["run"]) == (1, "build-7")
    progress = lines_of((halcyon / "progress.jsonl").read_text())
    assert {line["amphora_progress"] for line in progress} == {1}
    # Each of its steps is on one item.
    assert not any(" more" in str(line.get("what")) for line in progress)
    last = [line for line in progress if str(line.get("what")).startswith("grove-live: ")][-1]
    assert last["done"] == last["total"] > 5
    assert json.loads((halcyon / "findings.sarif").read_text())["version"] == "2.1.0"
    # While that is open it counts, with nothing else to do too.
    assert shell(halcyon, SCRIPT, "olive-intake", "grove-live", "7") == (code, told)
    assert intake("aftercare", "--tick", "all").code == 0
    assert shell(halcyon, SCRIPT, "olive-intake", "grove-live", "7") == (0, "build-7 is in grove-live\n")
    assert [run["name"] for run in intake("history", "--json").json["runs"]] == ["build-7"]


def test_the_script_stops_at_the_gate_and_waits_for_whoever_is_at_it(intake: Program, halcyon: Path) -> None:
    code, told = shell(halcyon, SCRIPT, "olive-intake", "grove-south", "8")
    assert (code, "Not yet for grove-south" in told) == (3, True)
    with closing(Ledger(halcyon / "ledger.sqlite", lambda: "2026-12-01T00:00:00Z")) as ledger:
        row = ("practice-grove-live", "ines", socket.gethostname(), os.getpid(), "", "t", "slip 1 goes in", "t")
        ledger._db.do("insert into locks values (?, ?, ?, ?, ?, ?, ?, ?)", row)
        code, told = shell(halcyon, SCRIPT, "olive-intake", "grove-live", "8", WAIT_MINUTES="0")
        assert (code, told) == (75, "build-8 is not in grove-live: see result.json\n")
        assert json.loads((halcyon / "result.json").read_text())["exit_code"] == 75
        ledger._db.do("delete from locks")
    assert shell(halcyon, SCRIPT, "olive-intake", "grove-live", "8")[0] == 1


def test_the_jobs_of_the_page(intake: Program, halcyon: Path) -> None:
    for step in JOBS["jobs"]["deliver"]["steps"]:
        if "run" in step:
            code, told = shell(halcyon, step["run"], GITHUB_RUN_NUMBER="12")
            assert code == 0, (step, told)
    assert [run["name"] for run in intake("history", "--json").json["runs"]] == ["build-12"]
    assert (halcyon / "verified.json").is_file()


def test_the_stages_of_the_page(intake: Program, halcyon: Path) -> None:
    for name in STAGES["stages"]:
        for line in STAGES[name]["script"]:
            code, told = shell(halcyon, line)
            assert code == 0, (line, told)
    assert intake("verify", "olive-intake", "grove-live").code == 0


def test_every_exit_code_of_the_page_is_one_that_the_program_has() -> None:
    from amphora.cli.boundary import CODES

    listed = {int(code) for code in re.findall(r"^\| (\d+) \|", PAGE, re.MULTILINE)}
    assert listed == {0, 1, 5, *(code for _, code in CODES)} - {70}


@pytest.fixture
def lists(amphora: Program) -> Program:
    amphora("export", "grove-dev", "Weigh slip", "Olive varieties", "Fruit condition", "--as", "lists")
    return amphora


@pytest.mark.parametrize("how", ["none", "lines", "json", "loud"])
def test_progress_is_told_as_asked(lists: Program, how: str) -> None:
    done = lists("import", "lists", "grove-test", "--yes", "--progress", how)
    assert done.code == (2 if how == "loud" else 0)
    if how == "json":
        assert all("what" in line or "said" in line for line in lines_of(done.err))
        steps = [line for line in lines_of(done.err) if str(line.get("what")).startswith("grove-test: ")]
        told = [line["done"] for line in steps]
        assert told == sorted(told)
        assert (told[0] > 0, told[-1]) == (True, steps[-1]["total"])
    else:
        assert "amphora_progress" not in done.err
