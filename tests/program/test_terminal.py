"""What is asked only at a terminal, tried at one."""

from __future__ import annotations

import os
import pty
import re
import select
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Program
from tests.program.test_deciding import edit, there  # noqa: F401

BACKEND = """
import json, pathlib
from keyring.backend import KeyringBackend
FILE = pathlib.Path(__file__).with_name("ring.json")
class Ring(KeyringBackend):
    priority = 1
    def get_password(self, service, username):
        return json.loads(FILE.read_text()).get(username) if FILE.exists() else None
    def set_password(self, service, username, password):
        FILE.write_text(json.dumps({username: password}))
"""


def at_terminal(folder: Path, words: list[str], answers: list[str], **variables: str) -> tuple[int, str]:
    """Runs the program at a terminal of its own and types the answers; its code and all that was shown."""
    ours, theirs = pty.openpty()
    command = [sys.executable, "-m", "amphora", *words]
    with subprocess.Popen(
        command, cwd=folder, env=os.environ | variables, stdin=theirs, stdout=theirs, stderr=theirs, close_fds=True
    ) as process:
        os.close(theirs)
        shown = b""
        for answer in [*answers, None]:
            # A line may come in pieces: one that ends in a colon is a question only when nothing more comes.
            while answer is not None and not (
                shown.rstrip().endswith(b":") and not select.select([ours], [], [], 0.3)[0]
            ):
                shown += os.read(ours, 4096)
            if answer is not None:
                os.write(ours, answer.encode() + b"\n")
                shown += b"\n> "
        while True:
            try:
                piece = os.read(ours, 4096)
            except OSError:
                break
            if not piece:
                break
            shown += piece
        os.close(ours)
        return process.wait(timeout=60), shown.decode(errors="replace")


def test_env_add_asks_for_what_is_left_out(halcyon: Path, amphora: Program) -> None:
    code, shown = at_terminal(halcyon, ["env", "add"], ["grove-copy", "practice:grove-test.practice", "test"])
    assert code == 0, shown
    assert "Added grove-copy (test)" in shown
    assert "grove-copy" in [e["name"] for e in amphora("env", "list", "--json").json["environments"]]
    elsewhere = amphora("env", "add", "x")
    assert (elsewhere.code, "nobody is here to ask" in elsewhere.err) == (3, True)


def test_a_secret_goes_into_the_keyring_and_nowhere_else(halcyon: Path, amphora: Program, tmp_path: Path) -> None:
    (tmp_path / "test_ring.py").write_text(BACKEND, encoding="utf-8")
    ring = {"PYTHON_KEYRING_BACKEND": "test_ring.Ring", "PYTHONPATH": str(tmp_path)}
    assert amphora("env", "sign-in", "grove-live", **ring).code == 3
    code, shown = at_terminal(halcyon, ["env", "sign-in", "grove-live"], ["t0ken-quiet-owl"], **ring)
    assert code == 0, shown
    assert "quiet-owl" not in shown
    assert 'sign_in = "keyring:grove-live"' in (halcyon / "amphora.toml").read_text()
    assert "quiet-owl" in (tmp_path / "ring.json").read_text()
    assert not [path for path in halcyon.rglob("*") if path.is_file() and b"quiet-owl" in path.read_bytes()]
    assert amphora("survey", "grove-live", **ring).code == 0
    (tmp_path / "ring.json").unlink()
    missing = amphora("survey", "grove-live", **ring)
    assert (missing.code, "Next: amphora env sign-in grove-live" in missing.err) == (2, True)


@pytest.mark.parametrize(("answer", "code"), [("n", 3), ("y", 0)])
def test_an_import_is_confirmed_at_a_terminal(halcyon: Path, amphora: Program, answer: str, code: int) -> None:
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    ended, shown = at_terminal(halcyon, ["import", "olive-intake", "grove-live"], [answer])
    assert ended == code, shown
    assert "Import olive-intake 1.0.0 into grove-live: 10 new, 0 changed?" in shown
    assert len(amphora("survey", "grove-live", "--json").json["items"]) == (11 if answer == "y" else 1)


def test_decisions_are_made_at_a_terminal_and_survive_a_refresh(amphora: Program, there: Path) -> None:  # noqa: F811
    for value, place in ((2, "grove-live"), (5, "grove-dev")):
        edit(amphora, place, "Weigh ticket", f"/steps/1/copies={value}", f'/starts_on/event="e{value}"')
    assert amphora("export", "olive-intake").code == 0
    assert amphora("compare", "olive-intake", "grove-live", "--decide").code == 3
    words = ["compare", "olive-intake", "grove-live", "--decide", "--docket", "d.docket.yaml"]
    code, shown = at_terminal(there, words, ["t", "b", "p", "x", "t"])
    assert code == 1, shown
    text = (there / "d.docket.yaml").read_text()
    assert re.findall(r"choice: (\w+)", text.split("no_longer_packed")[0]) == ["package", "target"]
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=7")
    stale = amphora("import", "d.docket.yaml", "--yes")
    assert (stale.code, "amphora compare --refresh d.docket.yaml" in stale.err) == (3, True)
    fresh = amphora("compare", "--refresh", "d.docket.yaml")
    assert fresh.verdict.startswith("d.docket.yaml is up to date, 1 decision kept.")
    assert "Decided before, and to be decided anew" in fresh.out
