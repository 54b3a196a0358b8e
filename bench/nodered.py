"""Measures a survey and an import of a large flow file over the bare calls that the same answers take, on two real
runtimes: `python bench/nodered.py [TABS]` prints a table; each tab has fifty nodes.

The bare calls of a survey are those for the file, the types that are installed, and the credentials of every node
that may have some, one after the other as anybody would make them first; those of an import are the reading of the
target's file, the writing of it, and a reading of what came of it, with the same credentials.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.nodered.runtime import started_runtime

PROGRAM = Path(sys.executable).with_name("amphora")
V2 = {"Node-RED-API-Version": "v2"}
EACH = 50
Node = dict[str, Any]


def tab(number: int) -> list[Node]:
    """One tab: a chain of nodes, of which a few call out with credentials."""
    head = f"{number:06d}"
    ids = [f"{head}{position:010d}" for position in range(EACH)]
    nodes: list[Node] = [{"id": ids[0], "type": "tab", "label": f"Press {number}", "disabled": False, "info": ""}]
    for position, id_ in enumerate(ids[1:], 1):
        wires = [[ids[position + 1]]] if position + 1 < EACH else [[]]
        place = {"id": id_, "z": ids[0], "name": f"n{position}", "x": 100, "y": 40 * position, "wires": wires}
        if position % 20 == 0:
            there = {"type": "http request", "method": "GET", "url": "", "ret": "txt", "paytoqs": "ignore"}
            nodes.append({**place, **there, "credentials": {"user": "mill", "password": "made-up"}})
        else:
            nodes.append({**place, "type": "function", "func": f"msg.n = {position};\nreturn msg;", "outputs": 1})
    return nodes


def read(url: str, flows: list[Node]) -> None:
    """The file, and the names of credentials."""
    with httpx.Client(base_url=url, headers=V2, trust_env=False, timeout=60) as http:
        http.get("/settings").json()
        http.get("/nodes", headers={"Accept": "application/json"}).json()
        http.get("/flows").json()
        for node in flows:
            if node["type"] == "http request":
                http.get(f"/credentials/http-request/{node['id']}").json()


def deploy(url: str, flows: list[Node]) -> None:
    """Writes the file."""
    body = {"flows": flows}
    httpx.post(f"{url}/flows", json=body, headers=V2, trust_env=False, timeout=60).raise_for_status()


def timed(work: Callable[[], object]) -> float:
    """Seconds that it takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def amphora(folder: Path, *words: str) -> None:
    """The program; whatever it answers but success ends the measurement."""
    done = subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    if done.returncode:
        raise RuntimeError(f"{words}: {done.stdout}{done.stderr}")


def measured(tabs: int) -> dict[str, list[float]]:
    """Seconds of three rounds each: what it took, and what the bare calls took."""
    flows = [node for number in range(tabs) for node in tab(number)]
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    found: dict[str, list[float]] = {name: [] for name in ("survey", "bare survey", "import", "bare import")}
    with tempfile.TemporaryDirectory() as name:
        one, two, grove = (Path(name) / part for part in ("one", "two", "grove"))
        for folder in (one, two, grove):
            folder.mkdir()
        with started_runtime(one) as source, started_runtime(two) as target:
            deploy(source, flows)
            amphora(grove, "init")
            for env, url, role in (("here", source, "build"), ("there", target, "test")):
                amphora(grove, "env", "add", env, f"nodered+{url}", "--role", role)
            for _ in range(3):
                found["bare survey"].append(timed(lambda: read(source, flows)))
                found["survey"].append(timed(lambda: amphora(grove, "survey", "here", "--json")))
            amphora(grove, "export", "here", "*", "--as", "all")
            for _ in range(3):
                # Each import is the first one, into an empty runtime; the bare calls write into one as well.
                deploy(target, [])

                def bare() -> None:
                    read(target, [])
                    deploy(target, flows)
                    read(target, flows)

                found["bare import"].append(timed(bare))
                deploy(target, [])
                words = ("import", "all", "there", "--yes", "--go-on")
                found["import"].append(timed(lambda words=words: amphora(grove, *words)))  # type: ignore[misc]
                amphora(grove, "undo", "last", "--yes")
    return found


if __name__ == "__main__":
    tabs = int(sys.argv[1]) if len(sys.argv) > 1 else 122
    seconds = {name: statistics.median(rounds) for name, rounds in measured(tabs).items()}
    print(f"{tabs * EACH:,} nodes, seconds of whole commands: {json.dumps(seconds)}")
    for name in ("survey", "import"):
        print(f"{name}: {seconds[name]:.1f} s, {seconds[name] / seconds[f'bare {name}']:.1f} times the bare calls")
