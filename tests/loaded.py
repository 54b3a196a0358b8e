"""The program, loaded once and forked for each call: what a call does is done by a process of its own, with its own
folder, variables and streams, and only the loading of modules is saved, which is most of what a call costs.

`python -m tests.loaded` answers requests, one JSON line each: folder, words, variables, files for stdout and stderr, the moment at which to be killed.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import io
import json
import os
import pkgutil
import subprocess
import sys
import tempfile
from pathlib import Path
from threading import Lock
from typing import Any, NoReturn

from amphora.core.form.detector import compiled
from amphora.core.form.shapes import SHAPES
from amphora.core.values import late

LATE = ("ruamel.yaml", "tomlkit", "httpx", "jinja2", "rich.console", "rich.table", "cryptography.hazmat.primitives")
MEASURED = "COVERAGE_PROCESS_START"

_lock = Lock()
_server: subprocess.Popen[str] | None = None


def called(folder: Path, words: list[str], variables: dict[str, str], kill_at: int = 0) -> tuple[int, str, str]:
    """Exit code, stdout and stderr of a call of the program, which is killed at a moment (0: never)."""
    with _lock, tempfile.TemporaryDirectory() as kept:
        out, err = Path(kept) / "out", Path(kept) / "err"
        request: dict[str, Any] = {"folder": str(folder), "words": words, "variables": variables}
        request |= {"out": str(out), "err": str(err), "mask": _mask(), "kill_at": kill_at}
        server = _running()
        assert server.stdin is not None
        assert server.stdout is not None
        server.stdin.write(json.dumps(request) + "\n")
        server.stdin.flush()
        code = int(server.stdout.readline())
        return code, out.read_text(encoding="utf-8"), err.read_text(encoding="utf-8")


def _mask() -> int:
    """The mask of this process, which children inherit; it can only be read by setting it."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _running() -> subprocess.Popen[str]:
    global _server
    if _server is None or _server.poll() is not None:
        words = [sys.executable, "-m", "tests.loaded"]
        root = Path(__file__).parents[1]
        # Measured is each call under the name of its test, not the loading.
        variables = {name: value for name, value in os.environ.items() if name != MEASURED}
        _server = subprocess.Popen(
            words, cwd=root, env=variables, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        atexit.register(_server.kill)
    return _server


def serve() -> None:
    """Answers requests until nobody sends any."""
    package = importlib.import_module("amphora")
    for module in pkgutil.walk_packages(package.__path__, "amphora."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    # What a call loads only where it uses it, and builds when it is first made.
    for name in LATE:
        importlib.import_module(name)
    for kind in list(late._waiting):
        late._build(kind)
    for shape in SHAPES:
        compiled(shape.pattern)
    # The garbage collector would copy every page that the children share with us.
    gc.freeze()
    for line in sys.stdin:
        child = os.fork()
        if child == 0:
            _become(json.loads(line))
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def _become(request: dict[str, Any]) -> NoReturn:
    """Is the program for one request."""
    nothing = os.open(os.devnull, os.O_RDONLY)
    out, err = (os.open(request[name], os.O_WRONLY | os.O_CREAT | os.O_TRUNC) for name in ("out", "err"))
    for number, opened in enumerate((nothing, out, err)):
        os.dup2(opened, number)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["variables"])
    os.umask(request["mask"])
    sys.path[:0] = [part for part in os.environ.get("PYTHONPATH", "").split(os.pathsep) if part]
    sys.argv = ["amphora", *request["words"]]
    # New ones: those of before hold what the server read ahead.
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8")
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w", closefd=False)), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(io.FileIO(2, "w", closefd=False), encoding="utf-8", write_through=True)
    code = 70
    measuring = importlib.import_module("coverage").process_startup() if MEASURED in os.environ else None
    try:
        if request["kill_at"]:
            importlib.import_module("tests.faults.killing").arm(request["kill_at"])
        importlib.import_module("amphora.cli.main").run()
        code = 0
    except SystemExit as error:
        code = error.code if isinstance(error.code, int) else 0 if error.code is None else 1
    finally:
        sys.stdout.flush()
        if measuring:
            measuring.stop()
            measuring.save()
        # Without what the server would do at its end.
        os._exit(code)


if __name__ == "__main__":
    serve()
