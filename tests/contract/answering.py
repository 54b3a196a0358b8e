"""Platforms of a test's own: a function that answers, behind a port of this machine."""

from __future__ import annotations

import json
import threading
from collections import defaultdict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from tests.conftest import Done, run_program
from tests.serving import on_loopback

Said = tuple[int, Any, dict[str, str]]
Answering = Callable[[str, str, dict[str, str], Any, dict[str, str]], Said]


@contextmanager
def served(answer: Answering) -> Iterator[str]:
    """A server whose answers a function gives: method, path, query, body, headers."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        # Head and body in one packet: the other end would wait for forty milliseconds between them.
        wbufsize = -1

        def log_message(self, format: str, *args: Any) -> None:
            """Nothing."""

        def do_GET(self) -> None:
            raw = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            try:
                body = json.loads(raw) if raw else None
            except ValueError:
                body = raw.decode("latin-1")
            parts = urlsplit(self.path)
            said = {name: values[-1] for name, values in parse_qs(parts.query).items()}
            with lock:
                status, sent, headers = answer(self.command, parts.path, said, body, dict(self.headers))
            sent = sent.encode() if isinstance(sent, str) else b"" if sent is None else sent
            out = sent if isinstance(sent, bytes) else json.dumps(sent).encode()
            self.send_response(status)
            for name, value in {"Content-Length": str(len(out)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(out)

        do_POST = do_PUT = do_PATCH = do_DELETE = do_GET  # noqa: N815

    lock = threading.Lock()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    with on_loopback(server) as address:
        yield address


class Plain:
    """A platform as most are: it tells its uid, and lists, makes, shows, changes and removes items of some kinds, each
    under the path of its kind. What one does otherwise it says in these methods."""

    empties = False
    """Whether what a change leaves out is null from then on."""

    def __init__(self, name: str = "", first: int = 0) -> None:
        self.name, self.number = name, first
        self.held: dict[str, dict[Any, dict[str, Any]]] = defaultdict(dict)

    def __call__(self, method: str, path: str, said: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
        kind, *steps = map(unquote, path.strip("/").split("/"))
        if kind == "about":
            return 200, {"uid": self.name}, {}
        if not steps:
            return (200, self.listed(kind, said), {}) if method == "GET" else self.made(kind, body)
        one = next((one for id_, one in self.held[kind].items() if str(id_) == steps[0]), None)
        if one is None:
            return 404, {"message": "no such thing"}, {}
        if steps[1:]:
            return self.inside(method, kind, one, steps[1:], body)
        if method == "DELETE":
            return self.removed(kind, one) or (200, one, {})
        return (method != "GET" and self.changed(kind, one, body)) or (200, self.shown(one), {})

    def next(self) -> Any:
        self.number += 1
        return self.number

    def add(self, kind: str, **members: Any) -> dict[str, Any]:
        id_ = self.next()
        self.held[kind][id_] = {**members, "id": id_}
        return self.held[kind][id_]

    def named(self, name: str) -> dict[str, Any]:
        """The one that is called so."""
        return next(one for held in self.held.values() for one in held.values() if one["name"] == name)

    def listed(self, kind: str, said: dict[str, str]) -> Any:
        return [self.shown(one) for one in self.held[kind].values()]

    def made(self, kind: str, body: Any) -> Said:
        return 201, self.shown(self.add(kind, **body)), {}

    def changed(self, kind: str, one: dict[str, Any], body: Any) -> Said | None:
        one |= (dict.fromkeys(one) | {"id": one["id"]} if self.empties else {}) | body
        return None

    def removed(self, kind: str, one: dict[str, Any]) -> Said | None:
        del self.held[kind][one["id"]]
        return None

    def inside(self, method: str, kind: str, one: dict[str, Any], steps: list[str], body: Any) -> Said:
        """What stands below an item's path."""
        return 404, None, {}

    def shown(self, one: dict[str, Any]) -> dict[str, Any]:
        return one


def sheets_of(platform: str, **others: str) -> dict[str, str]:
    """The sheets of one of the tests' platforms, its bridge sheet first; `others` instead of some."""
    paths = sorted((Path(__file__).parent / "sheets" / platform).glob("*.toml"), key=lambda one: one.stem != platform)
    return {path.stem: path.read_text(encoding="utf-8") for path in paths} | others


def written(folder: Path, sheets: dict[str, str]) -> str:
    """Writes sheets by their names; the file of the first."""
    for name, text in sheets.items():
        (folder / f"{name}.toml").write_text(text, "utf-8")
    return f"{next(iter(sheets))}.toml"


@contextmanager
def pair(
    folder: Path, sheets: dict[str, str], one: Answering, two: Answering, *more: str
) -> Iterator[Callable[..., Done]]:
    """A workspace over two platforms, `here` and `there`, by a bridge sheet, which is the first, and its kind sheets:
    what runs the program in it, and looks at the exit code. `more` is said of both."""
    bridge = written(folder, sheets)

    def run(*words: str, code: int = 0) -> Done:
        done = run_program(folder, *words)
        assert done.code == code, (words, done.out, done.err)
        return done

    with served(one) as here, served(two) as there:
        run("init")
        for name, url in (("here", here), ("there", there)):
            run("env", "add", name, url, "--bridge", bridge, "--role", "test", *more)
        yield run
