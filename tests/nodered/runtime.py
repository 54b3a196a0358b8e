"""Starts and stops the pinned flow runtime."""

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
MAIN = HERE / "node_modules" / "node-red" / "red.js"
START_S = 60


@contextmanager
def started_runtime(folder: Path, token: str = "", excluded: str = "") -> Iterator[str]:
    """A runtime on a free loopback port; yields its base URL and ends it afterwards."""
    node = shutil.which("node")
    assert node is not None, "no Node.js to test with: run `make test`, which installs it"
    assert MAIN.is_file(), "no runtime to test against: run `make test`, which installs it"
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    variables = {"AMPHORA_TEST_PORT": str(port), "AMPHORA_TEST_FOLDER": str(folder)}
    variables |= {"AMPHORA_TEST_TOKEN": token, "AMPHORA_TEST_EXCLUDED": excluded}
    with (folder / "runtime.log").open("w") as log:
        process = subprocess.Popen(
            [node, str(MAIN), "-s", str(HERE / "settings.js")],
            env=os.environ | variables,
            stdout=log,
            stderr=subprocess.STDOUT,
            stdin=subprocess.DEVNULL,
        )
        try:
            _wait(f"http://127.0.0.1:{port}", process)
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.wait(timeout=20)


def _wait(base_url: str, process: subprocess.Popen[bytes]) -> None:
    deadline = time.monotonic() + START_S
    while time.monotonic() < deadline:
        assert process.poll() is None, "the runtime ended by itself; see runtime.log"
        try:
            if httpx.get(f"{base_url}/settings", timeout=2, trust_env=False).status_code in (200, 401):
                return
        except httpx.HTTPError:
            time.sleep(0.2)
    raise AssertionError("the runtime did not answer in time")
