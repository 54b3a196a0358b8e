"""Starts and stops instances of the reporting system."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx

HERE = Path(__file__).parent
RUNTIME = HERE / ".runtime"
START_S = 120


@contextmanager
def started(folder: Path, names: tuple[str, ...]) -> Iterator[list[str]]:
    """Instances on free loopback ports, each with its own metadata `NAME.db` in a folder; their addresses."""
    assert (RUNTIME / ".installed").is_file(), (
        "no reporting system to test against: run `make test`, which installs it"
    )
    running: list[tuple[str, subprocess.Popen[bytes]]] = []
    try:
        for name in names:
            shutil.copy(RUNTIME / "first.db", folder / f"{name}.db")
            running.append(_started(folder, name))
        for url, process in running:
            _wait(url, process)
        yield [url for url, _ in running]
    finally:
        for _, process in running:
            process.terminate()
        for _, process in running:
            process.wait(timeout=30)


def _started(folder: Path, name: str) -> tuple[str, subprocess.Popen[bytes]]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    variables = {"AMPHORA_TEST_METADATA": str(folder / f"{name}.db"), "FLASK_APP": "superset"}
    variables |= {"SUPERSET_CONFIG_PATH": str(HERE / "superset_config.py"), "PYTHONPATH": ""}
    words = [str(RUNTIME / "bin" / "superset"), "run", "-h", "127.0.0.1", "-p", str(port), "--with-threads"]
    with (folder / f"{name}.log").open("w") as log:
        process = subprocess.Popen(
            words, env=os.environ | variables, stdout=log, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL
        )
    return f"http://127.0.0.1:{port}", process


def _wait(url: str, process: subprocess.Popen[bytes]) -> None:
    until = time.monotonic() + START_S
    while time.monotonic() < until:
        assert process.poll() is None, "the instance ended by itself; see its log"
        try:
            if httpx.get(f"{url}/health", timeout=5, trust_env=False).status_code == httpx.codes.OK:
                return
        except httpx.HTTPError:
            time.sleep(0.3)
    raise AssertionError("the instance did not answer in time")
