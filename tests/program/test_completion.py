"""What a shell gets that completes words: names, in whatever half of a command they are asked for, and no refusals."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Program


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("survey grove-", {"grove-dev", "grove-test", "grove-live", "grove-south"}),
        ("import slips --copy '' grove-t", {"grove-test"}),
        ("export grove-dev --as a --as b letter-template:office/weigh", {"letter-template:office/weigh-slip"}),
        ("peek sl", {"slips", "slips-1.0.0"}),
        ("--workspace . init ", set()),
    ],
)
def test_names_are_completed_and_nothing_is_refused(
    amphora: Program, halcyon: Path, words: str, offered: set[str]
) -> None:
    amphora("export", "grove-dev", "Weigh slip", "--as", "slips")
    line = f"amphora {words}"
    asked = {"_AMPHORA_COMPLETE": "complete_bash", "COMP_WORDS": line, "COMP_CWORD": str(len(words.split(" ")))}
    # A process of its own: the program completes words before it is anything else.
    done = subprocess.run(
        [Path(sys.executable).with_name("amphora")],
        cwd=halcyon,
        env=os.environ | asked,
        capture_output=True,
        text=True,
    )
    assert (done.returncode, done.stderr) == (0, "")
    assert set(done.stdout.split("\n")) - {""} == offered
