"""Bad input through the real program: each says what, where and what next, and loses nothing."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from tests.conftest import Program


def test_what_whoever_writes_wants_to_keep_for_fewer_stays_so(amphora: Program, halcyon: Path) -> None:
    old = os.umask(0o377)
    try:
        assert amphora("export", "grove-dev", "Press lines", "--as", "lines", "--out", "lines.amphora").code == 0
    finally:
        os.umask(old)
    assert (halcyon / "lines.amphora").stat().st_mode & 0o777 == 0o400


def test_an_error_that_nobody_reads_keeps_its_code(halcyon: Path) -> None:
    words = [sys.executable, "-m", "amphora", "survey", "grove-dev", "Nothing like it", "--json"]
    reader, writer = os.pipe()
    os.close(reader)
    done = subprocess.run(words, cwd=halcyon, stdout=writer, stderr=subprocess.PIPE, text=True)
    os.close(writer)
    assert (done.returncode, "Traceback" in done.stderr) == (2, False), done.stderr
