"""Platforms of a test's own: a function that answers, behind a port of this machine."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

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


def described(kind: str, path: str, members: Sequence[str], more: str = "") -> str:
    """The lines of a bridge sheet for one kind of items with the usual five calls under a path."""
    return f"""
[item.{kind}]
index      = {{ get = "{path}", rows = "$[*]" }}
id         = "$.id"
title      = "$.name"
read       = {{ get = "{path}/{{id}}" }}
definition = {json.dumps(list(members))}
create     = {{ post = "{path}" }}
update     = {{ put = "{path}/{{id}}" }}
retire     = {{ delete = "{path}/{{id}}" }}
{more}"""


@contextmanager
def pair(folder: Path, bridge: str, one: Answering, two: Answering, *more: str) -> Iterator[Callable[..., Done]]:
    """A workspace over two platforms, `here` and `there`, by the sheet BRIDGE.toml in its folder: what runs the program
    in it, and looks at the exit code. `more` is said of both."""

    def run(*words: str, code: int = 0) -> Done:
        done = run_program(folder, *words)
        assert done.code == code, (words, done.out, done.err)
        return done

    with served(one) as here, served(two) as there:
        run("init")
        for name, url in (("here", here), ("there", there)):
            run("env", "add", name, url, "--bridge", f"{bridge}.toml", "--role", "test", *more)
        yield run
