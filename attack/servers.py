"""Servers that answer what they like: with nonsense, too much, too slowly, or about something else."""

from __future__ import annotations

import gzip
import json
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from amphora.core.values.errors import AmphoraError
from amphora.environments import answers as answers_module
from amphora.environments import calls as calls_module
from amphora.environments.nodered.adapter import connect
from attack import Case

SECRET = "quiet-heron-token-77"
FLOWS = {"rev": "1", "flows": [{"id": "a1b2c3d4e5f60718", "type": "tab", "label": "A"}]}
GOOD = {"/settings": {"version": "4.1.0"}, "/nodes": [{"enabled": True, "types": ["inject"]}], "/flows": FLOWS}
Answer = Callable[[socket.socket, str], None]


def cases() -> Iterator[Case]:
    """All of them: each answer for each path that a survey asks for."""
    for path in GOOD:
        for name, answer in _answers().items():
            yield Case("servers", f"{path}: {name}", partial(_survey, path, answer))
        values: tuple[object, ...] = (
            None,
            5,
            "x",
            [],
            {},
            True,
            [5],
            [[]],
            [{}],
            {"flows": 5},
            {"rev": 1, "flows": []},
            {"flows": [5], "rev": "1"},
        )
        for value in values:
            if not _is_fit(path, value):
                yield Case("servers", f"{path}: {json.dumps(value)}", partial(_survey, path, _json(value)))
    nodes: tuple[object, ...] = (
        {},
        {"id": 5, "type": "tab"},
        {"id": "a", "type": None},
        {"type": "tab"},
        [],
        "x",
        None,
    )
    for node in nodes:
        flows = {"rev": "1", "flows": [node]}
        yield Case("servers", f"a node {json.dumps(node)}", partial(_survey, "/flows", _json(flows)))
    for secret in ("a\nb", "a\r\nX-Other: 1", "a\x00b", "ü", "a\u2028b"):
        yield Case("servers", f"a secret that is no header {secret!r}", partial(_signed_in, secret))


def _is_fit(path: str, value: object) -> bool:
    return (path == "/settings" and isinstance(value, dict)) or (path == "/nodes" and value in ([], [{}]))


def _survey(path: str, answer: Answer, folder: Path) -> str:
    """Asks for everything; the adapter's own errors only, in bounded time and memory, and no secret in them."""
    kept = calls_module.LONGEST_S, calls_module.MOST_BYTES, answers_module.LONGEST_WAIT_S
    calls_module.LONGEST_S, calls_module.MOST_BYTES, answers_module.LONGEST_WAIT_S = 2.0, 1 << 20, 0.1
    start = time.monotonic()
    try:
        with serving(path, answer) as port:
            environment = connect(f"nodered+http://127.0.0.1:{port}", folder, "", SECRET)
            try:
                environment.describe()
                environment.index()
            finally:
                environment.close()
    except AmphoraError as error:
        words = " ".join([error.message, *error.details, str(error.next_step)])
        if SECRET in words:
            return f"the secret is in: {words}"
        return "" if time.monotonic() - start < 20 else f"it took {time.monotonic() - start:.0f} s"
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    finally:
        calls_module.LONGEST_S, calls_module.MOST_BYTES, answers_module.LONGEST_WAIT_S = kept
    return "it was taken for a runtime"


def _signed_in(secret: str, folder: Path) -> str:
    try:
        with serving("", _json({})) as port:
            connect(f"nodered+http://127.0.0.1:{port}", folder, "", secret).describe()
    except AmphoraError as error:
        return "the secret is in the words" if secret.strip() in error.message else ""
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    return "it was sent"


@contextmanager
def serving(path: str, answer: Answer) -> Iterator[int]:
    """A server on loopback that answers one path in a way of its own, the others properly."""
    listener = socket.create_server(("127.0.0.1", 0))
    is_over = threading.Event()

    def serve() -> None:
        while not is_over.is_set():
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=handle, args=(connection,), daemon=True).start()

    def handle(connection: socket.socket) -> None:
        with connection:
            connection.settimeout(30)
            try:
                while asked := _asked(connection):
                    if asked == path:
                        answer(connection, asked)
                        return
                    _json(GOOD.get(asked, {}))(connection, asked)
            except OSError:
                return

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        is_over.set()
        listener.close()


def _asked(connection: socket.socket) -> str:
    raw = b""
    while b"\r\n\r\n" not in raw:
        piece = connection.recv(65536)
        if not piece:
            return ""
        raw += piece
    return raw.split(b" ")[1].decode()


def _sent(status: str, body: bytes, *headers: str) -> Answer:
    def answer(connection: socket.socket, path: str) -> None:
        head = "\r\n".join([f"HTTP/1.1 {status}", f"Content-Length: {len(body)}", *headers])
        connection.sendall(head.encode("latin-1") + b"\r\n\r\n" + body)

    return answer


def _json(value: object) -> Answer:
    return _sent("200 OK", json.dumps(value).encode(), "Content-Type: application/json")


def _raw(*pieces: bytes, pause_s: float = 0.0, forever: bytes = b"") -> Answer:
    def answer(connection: socket.socket, path: str) -> None:
        for piece in pieces:
            connection.sendall(piece)
        while forever:
            connection.sendall(forever)
            time.sleep(pause_s)

    return answer


def _answers() -> dict[str, Answer]:
    ok = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"
    huge = gzip.compress(b"[" + b"0," * (20 << 20) + b"0]")
    return {
        "a page": _sent("200 OK", b"<html><body>Welcome</body></html>", "Content-Type: text/html"),
        "nothing": _sent("200 OK", b""),
        "half of it": _raw(ok + b"Content-Length: 1000\r\n\r\n{"),
        "no HTTP": _raw(b"220 mail.halcyon.example\r\n"),
        "closed at once": _raw(),
        "a reset": _raw(b"H"),
        "not UTF-8": _sent("200 OK", b'{"a":"\xff"}'),
        "not a number": _sent("200 OK", b'{"version":NaN,"rev":NaN}'),
        "doubled names": _sent("200 OK", b'{"rev":"1","rev":"2","flows":[]}'),
        "nested for ever": _sent("200 OK", b"[" * 200_000),
        "too much": _raw(ok + b"\r\n", forever=b"[" * 65536),
        "a bomb": _sent("200 OK", huge, "Content-Encoding: gzip"),
        "a lie about its packing": _sent("200 OK", b"not gzip", "Content-Encoding: gzip"),
        "an unknown packing": _sent("200 OK", b"\x00\x01", "Content-Encoding: olive"),
        "a body that drips": _raw(ok + b"Content-Length: 100000\r\n\r\n", forever=b" ", pause_s=0.3),
        "headers that drip": _raw(b"HTTP/1.1 200 OK\r\n", forever=b"X: 1\r\n", pause_s=0.3),
        "headers for ever": _raw(b"HTTP/1.1 200 OK\r\n", forever=b"X-A: " + b"a" * 4000 + b"\r\n"),
        "elsewhere": _sent("302 Found", b"", "Location: http://127.0.0.1:9/"),
        "elsewhere for good": _sent("308 Permanent Redirect", b"", "Location: file:///etc/passwd"),
        "not signed in": _sent("401 Unauthorized", b"Unauthorized"),
        "forbidden": _sent("403 Forbidden", b"no"),
        "not there": _sent("404 Not Found", b"Cannot GET"),
        "busy": _sent("429 Too Many Requests", b"", "Retry-After: 86400"),
        "busy until a date": _sent("503 Service Unavailable", b"", "Retry-After: Wed, 21 Oct 2099 07:28:00 GMT"),
        "broken": _sent("500 Internal Server Error", b'{"error": "x"}'),
        "a teapot": _sent("418 I'm a teapot", b""),
        "a status that is none": _raw(b"HTTP/1.1 999 ?\r\nContent-Length: 0\r\n\r\n"),
        "a length that is none": _raw(b"HTTP/1.1 200 OK\r\nContent-Length: olive\r\n\r\n{}"),
        "a line break in a header": _raw(b"HTTP/1.1 200 OK\r\nX: a\nY: b\r\nContent-Length: -1\r\n\r\n{}"),
    }
