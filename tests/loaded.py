"""The program, loaded once for many calls: each has its own folder, variables and streams, and what is saved is the
loading of modules and of whatever they keep, which is most of what a call costs. A call that is to be killed, or
measured, is a process of its own, forked from the one that is loaded.

`python -m tests.loaded` answers requests, one JSON line each: folder, words, variables, files for stdout and stderr, the moment at which to be killed.
"""

from __future__ import annotations

import atexit
import contextlib
import gc
import importlib
import io
import json
import os
import pkgutil
import signal
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Iterator
from pathlib import Path
from threading import Lock
from types import SimpleNamespace
from typing import Any

from amphora.core.form.detector import compiled
from amphora.core.form.shapes import SHAPES
from amphora.core.values import late

LATE = ("ruamel.yaml", "tomlkit", "httpx", "jinja2", "rich.console", "rich.table", "cryptography.hazmat.primitives")
MEASURED = "COVERAGE_PROCESS_START"

_lock = Lock()
_server: subprocess.Popen[str] | None = None


def called(
    folder: Path, words: list[str], variables: dict[str, str], kill_at: int = 0, pid_file: Path | None = None
) -> tuple[int, str, str]:
    """Exit code, stdout and stderr of a call of the program, which is killed at a moment (0: never), or by whoever
    reads its number from a file."""
    with _lock, tempfile.TemporaryDirectory() as kept:
        out, err = Path(kept) / "out", Path(kept) / "err"
        request: dict[str, Any] = {"folder": str(folder), "words": words, "variables": variables}
        request |= {"out": str(out), "err": str(err), "mask": _mask()}
        request |= {"kill_at": kill_at, "pid_file": str(pid_file or "")}
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
    # The demo's own commands, too.
    demo = importlib.import_module("amphora.cli.demo")
    vars(demo)["subprocess"] = SimpleNamespace(**vars(subprocess) | {"run": _scene})
    # The garbage collector would copy every page that the children share with us.
    gc.freeze()
    # Our own streams become those of each call.
    requests, answers = os.fdopen(os.dup(0), encoding="utf-8"), os.fdopen(os.dup(1), "w", encoding="utf-8")
    for line in requests:
        request = json.loads(line)
        is_apart = request["kill_at"] or request["pid_file"] or MEASURED in request["variables"]
        print(_forked(request) if is_apart else _done(request), file=answers, flush=True)


def _forked(request: dict[str, Any]) -> int:
    """The exit code of a call in a process of its own."""
    child = os.fork()
    if child == 0:
        code = 70
        try:
            if request.get("pid_file"):
                Path(request["pid_file"]).write_text(str(os.getpid()), encoding="utf-8")
            code = _done(request)
        finally:
            # Without what the server would do at its end.
            os._exit(code)
    _, status = os.waitpid(child, 0)
    return os.waitstatus_to_exitcode(status)


def _done(request: dict[str, Any]) -> int:
    """The exit code of a call."""
    with _as_called(request):
        # By what the test says: each call is measured under its name.
        measuring = importlib.import_module("coverage").process_startup() if MEASURED in os.environ else None
        try:
            if request.get("kill_at"):
                importlib.import_module("tests.faults.killing").arm(request["kill_at"])
            importlib.import_module("amphora.cli.main").run()
        except SystemExit as error:
            return error.code if isinstance(error.code, int) else 0 if error.code is None else 1
        except BaseException:
            traceback.print_exc()
            return 1
        finally:
            if measuring:
                measuring.stop()
                measuring.save()
        return 0


def _scene(words: list[str], cwd: Path, env: dict[str, str], stdout: int | None, **_: Any) -> SimpleNamespace:
    """A command that the demo plays, in a process of its own that is loaded already."""
    with tempfile.NamedTemporaryFile("r", encoding="utf-8") as told:
        request = {"folder": str(cwd), "words": words[3:], "variables": env, "out": told.name, "err": told.name}
        code = _forked({**request, "mask": _mask()})
        text = told.read()
    if stdout is None:
        sys.stdout.write(text)
    return SimpleNamespace(returncode=code, stdout=text)


@contextlib.contextmanager
def _as_called(request: dict[str, Any]) -> Iterator[None]:
    """The folder, variables, streams, words and mask of a call, and afterwards those of before."""
    handlers = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    variables, folder, path = dict(os.environ), Path.cwd(), list(sys.path)
    streams = sys.stdin, sys.stdout, sys.stderr
    nothing = os.open(os.devnull, os.O_RDONLY)
    # At its end: both may be one file.
    ways = os.O_WRONLY | os.O_CREAT | os.O_APPEND
    out, err = (os.open(request[name], ways) for name in ("out", "err"))
    for number, opened in enumerate((nothing, out, err)):
        os.dup2(opened, number)
        os.close(opened)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["variables"])
    mask = os.umask(request["mask"])
    sys.path[:0] = [part for part in os.environ.get("PYTHONPATH", "").split(os.pathsep) if part]
    sys.argv = ["amphora", *request["words"]]
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8")
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w", closefd=False)), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(io.FileIO(2, "w", closefd=False), encoding="utf-8", write_through=True)
    try:
        yield
    finally:
        if sys.stdout is not None:
            sys.stdout.flush()
        sys.stdin, sys.stdout, sys.stderr = streams
        sys.path[:] = path
        os.umask(mask)
        os.environ.clear()
        os.environ.update(variables)
        os.chdir(folder)
        for number, handler in handlers.items():
            signal.signal(number, handler)


if __name__ == "__main__":
    serve()
