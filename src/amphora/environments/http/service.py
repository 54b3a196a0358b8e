"""A server of the environment protocol over any environment: what the simulated platform is served with, and a worked
example for whoever writes a bridge of their own."""

from __future__ import annotations

import base64
import gzip
import json
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, closing
from dataclasses import field, replace
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved
from amphora.core.values.late import dataclass
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.contract import Environment
from amphora.environments.http.operations import LINES, Answer, Operation, Problem, Request, operation_of

Open = Callable[[str], Environment]
"""Opens an environment for an account."""

Once = tuple[str, str, str, str]
"""What a write is known by: environment, path, key, and the revision that was seen. The same key with another
revision is another write: whoever makes keys badly must not lose one."""

TOKEN_S = 3600
MOST_BYTES = 64 << 20
MOST_PASSED_OVER_BYTES = 4 << 20
PATIENCE_S = 2.0
"""What takes longer is answered later, to whoever prefers that."""

MOST_ANSWERS = 10_000
"""So many answers to writes are remembered by their keys."""

_CODES = {"moved": 412, "taken": 409, "in-use": 409, "not-found": 404, "forbidden": 403, "busy": 503, "too-much": 422}


@dataclass
class Job:
    """A write that is answered later: whose it is, where it may be asked after, and what it came to."""

    account: str
    environment: str
    done: threading.Event = field(default_factory=threading.Event)
    answer: Answer = field(default_factory=lambda: Answer(202))


@dataclass
class Service:
    """What is served: environments by name, and who may sign in with which secret. A client's id is the account that
    it works as."""

    environments: Mapping[str, Open]
    clients: Mapping[str, str]
    tokens: dict[str, tuple[str, float]] = field(default_factory=dict)
    answers: OrderedDict[Once, Answer] = field(default_factory=OrderedDict)
    jobs: OrderedDict[str, Job] = field(default_factory=OrderedDict)
    patience_s: float = PATIENCE_S
    lock: threading.Lock = field(default_factory=threading.Lock)

    def token_for(self, client: str, secret: str) -> str | None:
        """A new token for a client that shows its secret."""
        known = self.clients.get(client)
        # In the same time for every wrong secret: how long a refusal takes must not tell how much of it was right.
        if known is None or not secrets.compare_digest(known.encode(), secret.encode()):
            return None
        token = secrets.token_urlsafe(24)
        with self.lock:
            # By a clock that nobody sets: a machine that changes to summer time signs nobody out.
            self.tokens[token] = (client, time.monotonic() + TOKEN_S)
        return token

    def account_of(self, token: str) -> str | None:
        """Whose token that is, while it is good."""
        with self.lock:
            # One lock for all tables: they are small, and held for no call to an environment.
            account, until = self.tokens.get(token, ("", 0.0))
        return account if account and until > time.monotonic() else None

    def begun(self, account: str, environment: str, work: Callable[[], Answer]) -> tuple[str, Job]:
        """Does some work beside the request that asked for it; its name, and the job."""
        name, job = secrets.token_urlsafe(12), Job(account, environment)
        with self.lock:
            self.jobs[name] = job
            # Bounded: a caller that never asks again must not fill the memory.
            while len(self.jobs) > MOST_ANSWERS:
                self.jobs.popitem(last=False)

        def run() -> None:
            job.answer = work()
            job.done.set()

        # Daemons: a job that hangs must not keep the server from ending.
        threading.Thread(target=run, daemon=True).start()
        return name, job

    def job_of(self, name: str, account: str, environment: str) -> Job:
        """A job of somebody's; a problem where there is none: whose it was is nobody else's business."""
        with self.lock:
            job = self.jobs.get(name)
        if job is None or (job.account, job.environment) != (account, environment):
            # The same words for somebody else's and for none: what others do is not told.
            raise Problem(410, "gone", "nothing is known of such a job (any more)")
        return job

    def remembered(self, key: Once) -> Answer | None:
        """The answer to a write that came before under the same key."""
        with self.lock:
            return self.answers.get(key)

    def remember(self, key: Once, answer: Answer) -> None:
        """Keeps it, and lets the oldest go."""
        with self.lock:
            self.answers[key] = answer
            while len(self.answers) > MOST_ANSWERS:
                self.answers.popitem(last=False)


class Handler(BaseHTTPRequestHandler):
    """One connection."""

    protocol_version = "HTTP/1.1"
    # Headers and body together, and at once: apart, each answer waits forty milliseconds for the other end's word.
    wbufsize = 1 << 16
    disable_nagle_algorithm = True
    server_version = "amphora-practice"
    service: Service

    def do_GET(self) -> None:
        self._serve()

    do_POST = do_PUT = do_GET  # noqa: N815

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing: addresses may hold what is nobody's business."""

    def _serve(self) -> None:
        self._send(_guarded(self._answer))

    def _answer(self) -> Answer:
        # As it was asked for, still encoded: an id may hold a slash.
        parts = urlsplit(self.path)
        _, name, *rest = parts.path.split("/")
        # Before any account is asked for: it is where one is got.
        if self.command == "POST" and rest == ["token"]:
            return self._signed_in()
        account = self.service.account_of(self.headers.get("Authorization", "").removeprefix("Bearer "))
        if account is None:
            raise Problem(401, "signed-out", "a token is needed, and this is none")
        if name not in self.service.environments:
            raise Problem(404, "not-found", f"there is no environment {name!r} here")
        if self.command == "GET" and len(rest) == 2 and rest[0] == "jobs":
            return self._told(name, rest[1], self.service.job_of(rest[1], account, name))
        operation = operation_of(self.command, "".join(f"/{part}" for part in rest).rstrip("/"))
        key = (name, self.path, self.headers.get("Idempotency-Key", ""), self.headers.get("If-Match", ""))
        is_known = operation.is_write(self.command) and bool(key[2])
        # The body is read all the same: left in the line it would be taken for the next request.
        if is_known and (before := self.service.remembered(key)):
            self._raw()
            return before

        def remember(answer: Answer) -> None:
            if is_known:
                self.service.remember(key, answer)

        # A wish and no order (RFC 7240): whoever doesn't say it waits as ever.
        wants_later = "respond-async" in self.headers.get("Prefer", "")
        if wants_later and operation.may_wait(self.command):
            return self._later(name, account, operation, parts.query, remember)
        # Answered at once: whoever didn't say that they can wait may be a script that can't.
        answer = self._done(name, account, operation, parts.query, self._body)
        remember(answer)
        return answer

    def _later(
        self, name: str, account: str, operation: Operation, query: str, remember: Callable[[Answer], None]
    ) -> Answer:
        """What came of it, if that is quick; else where to ask (RFC 7240, section 4.1)."""
        body = self._body()

        def work() -> Answer:
            done = self._done(name, account, operation, query, lambda: body)
            remember(done)
            return done

        # Refusals are answers as well: whoever asks later has to be told.
        told, job = self.service.begun(account, name, lambda: _guarded(work))
        # Most writes are quick: whoever would wait is answered at once then.
        job.done.wait(self.service.patience_s)
        return self._told(name, told, job)

    def _told(self, name: str, told: str, job: Job) -> Answer:
        if job.done.is_set():
            return job.answer
        headers = {"Location": f"/{name}/jobs/{told}", "Retry-After": "1", "Preference-Applied": "respond-async"}
        return Answer(202, {"state": "running"}, headers)

    def _done(self, name: str, account: str, operation: Operation, query: str, body_of: Callable[[], Any]) -> Answer:
        said = {one: values[-1] for one, values in parse_qs(query).items()}
        # Read once: what is streamed is the body, and nothing is left of it for a document.
        pieces = self._pieces() if operation.is_streamed else iter(())
        body = None if operation.is_streamed else body_of()
        with ExitStack() as stack:
            environment = stack.enter_context(closing(self.service.environments[name](account)))
            headers: Any = self.headers
            try:
                answer = operation.do(Request(environment, f"/{name}", operation.ids, said, headers, body, pieces))
            finally:
                self._pass_over(pieces)
            if answer.pieces is not None:
                # Read while they are sent: closed when the last one is.
                return replace(answer, pieces=_closing(stack.pop_all(), answer.pieces))
        return answer

    def _signed_in(self) -> Answer:
        self._raw()
        kind, _, text = self.headers.get("Authorization", "").partition(" ")
        client, _, secret = base64.b64decode(text).decode().partition(":") if kind == "Basic" else ("", "", "")
        token = self.service.token_for(unquote(client), unquote(secret))
        if token is None:
            return Answer(401, {"error": "invalid_client"}, {"WWW-Authenticate": "Basic"})
        return Answer(
            body={"access_token": token, "token_type": "Bearer", "expires_in": TOKEN_S},
            headers={"Cache-Control": "no-store"},
        )

    def _pieces(self) -> Iterator[bytes]:
        """The body, in pieces, whichever way its length is told (RFC 9112, sections 6 and 7)."""
        if self.headers.get("Transfer-Encoding", "").lower() == "chunked":
            # The extensions of a chunk mean nothing to us, and are to be passed over (RFC 9112, section 7.1.1).
            while size := int(self.rfile.readline().split(b";")[0], 16):
                yield self.rfile.read(size)
                self.rfile.readline()
            self.rfile.readline()
            return
        left = int(self.headers.get("Content-Length") or 0)
        while left > 0 and (piece := self.rfile.read(min(left, 1 << 16))):
            left -= len(piece)
            yield piece

    def _raw(self) -> bytes:
        whole = bytearray()
        for piece in self._pieces():
            whole += piece
            if len(whole) > MOST_BYTES:
                # The rest of the body is still on its way: nothing after it can be told from it.
                self.close_connection = True
                raise Problem(413, "too-much", "a request that large is not taken")
        return bytes(whole)

    def _body(self) -> Any:
        raw = self._raw()
        try:
            return parse_json(raw) if raw else None
        except JsonFault as error:
            raise Problem(400, "malformed", f"the body is no JSON: {error}") from error

    def _pass_over(self, pieces: Iterator[bytes]) -> None:
        """Reads what is left of a body that nobody wanted, which would be taken for the next request. Of a large one
        only the beginning: whoever sends the rest is told by the end of the line."""
        left = 0
        for piece in pieces:
            left += len(piece)
            if left > MOST_PASSED_OVER_BYTES:
                self.close_connection = True
                return

    def _send(self, answer: Answer) -> None:
        self.send_response(answer.status, HTTPStatus(answer.status).phrase)
        for name, value in answer.headers.items():
            self.send_header(name, value)
        if answer.pieces is not None:
            self._send_pieces(answer)
            return
        is_empty = answer.status in (204, 304)
        body = b"" if is_empty else json.dumps(answer.body, ensure_ascii=False).encode()
        if not is_empty and "Content-Type" not in answer.headers:
            self.send_header("Content-Type", "application/json")
        # Below that the packing takes longer than the sending.
        if len(body) > 1024 and "gzip" in self.headers.get("Accept-Encoding", ""):
            body = gzip.compress(body, 5)
            self.send_header("Content-Encoding", "gzip")
        if not is_empty:
            self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def _send_pieces(self, answer: Answer) -> None:
        if "Content-Type" not in answer.headers:
            self.send_header("Content-Type", LINES)
        self.send_header("Transfer-Encoding", "chunked")
        self.end_headers()
        for piece in filter(None, answer.pieces or ()):
            self.wfile.write(f"{len(piece):x}\r\n".encode() + piece + b"\r\n")
        self.wfile.write(b"0\r\n\r\n")


def _guarded(work: Callable[[], Answer]) -> Answer:
    """What some work answers; what goes wrong in it, as a problem."""
    try:
        return work()
    except Problem as problem:
        return _problem(problem)
    # Before the refusals, of which it is one: the caller has to look anew, and not to give up.
    except RevisionMoved as error:
        return _problem(Problem(412, "moved", error.message))
    except EnvironmentRefused as error:
        # The platform's own code, where it gave one: words are for people, codes for programs.
        code = getattr(error.__cause__, "code", "invalid")
        return _problem(Problem(_CODES.get(code, 422), code, error.message))
    except AmphoraError as error:
        return _problem(Problem(503, "later", error.message))
    except (KeyError, TypeError, ValueError, AttributeError):
        return _problem(Problem(400, "malformed", "that is no request of the environment protocol"))
    # A fault of ours: told as one, for whoever waits on a line that goes dead can't tell it from the network's.
    except Exception as error:
        return _problem(Problem(500, "failed", f"the server failed ({type(error).__name__})"))


def _closing(stack: ExitStack, pieces: Iterable[bytes]) -> Iterator[bytes]:
    with stack:
        yield from pieces


def _problem(problem: Problem) -> Answer:
    table = {
        "type": f"urn:amphora:problem:{problem.code}",
        "title": problem.code,
        "status": problem.status,
        "detail": problem.detail,
        "code": problem.code,
    }
    more = {"Retry-After": "1"} if problem.status in (429, 503) else {}
    more |= {"WWW-Authenticate": "Bearer"} if problem.status == 401 else {}
    return Answer(problem.status, table, {"Content-Type": "application/problem+json", **more})


def server_of(service: Service, port: int = 0) -> ThreadingHTTPServer:
    """A server on loopback; with port 0 on any that is free. It is not begun yet: `serve_forever` does that."""
    made = type("ServiceHandler", (Handler,), {"service": service})
    # Loopback and nothing else: it speaks without encryption.
    server = ThreadingHTTPServer(("127.0.0.1", port), made)
    server.daemon_threads = True
    return server
