"""Calls of adapters over HTTP: whom to trust, how long to wait, and what went wrong in words of our own."""

from __future__ import annotations

import os
import ssl
import threading
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

import httpx

from amphora.core.values.errors import EnvironmentRefused, Unavailable, Uncertain, UsageFault
from amphora.core.values.next_step import advice
from amphora.core.values.strict_json import JsonFault, parse_json

TIMEOUT_S = 30.0
"""How long nothing may come."""

LONGEST_S = 300.0
"""How long an answer may take as a whole: one that drips never times out by itself."""

TRIES = 3
LONGEST_WAIT_S = 10.0
"""What may be asked again is, as often and after as long as the server says within these."""


MOST_TOLD = 4
AT_ONCE = 4
"""How many calls are under way at once where a server takes them side by side: more would be felt by those who work
there."""

MOST_BYTES = 256 << 20
"""How large an answer may be, unpacked: what is small on the line may be huge in memory."""

LOOPBACK = ("127.0.0.1", "localhost", "::1")

_PACKED = ("content-encoding", "content-length", "transfer-encoding")


class Pace:
    """How many calls a server is asked at once: half as many when it says that it is busy, one more for as many good
    answers as there are calls under way."""

    def __init__(self, most: int) -> None:
        self._most, self._good = most, 0
        self.now = most

    def slower(self) -> None:
        """It was too much."""
        self.now, self._good = max(1, self.now // 2), 0

    def well(self) -> None:
        """It was answered."""
        self._good += 1
        if self._good >= self.now and self.now < self._most:
            self.now, self._good = self.now + 1, 0


class Caller:
    """One line to a server. Every answer is read whole, within a size and a time. `speaks` says as what it should
    answer, `secret_kind` what stands in sign_in where there is a user: both for people."""

    def __init__(
        self, base_url: str, speaks: str, secret_kind: str, ca_file: str = "", timeout_s: float = TIMEOUT_S
    ) -> None:
        self.base_url = base_url.rstrip("/")
        self._speaks, self._secret_kind = speaks, secret_kind
        # Certificates that nobody will be shown are not read: that takes as long as some ten calls.
        self._trusted = trusted(ca_file) if base_url.startswith("https:") or ca_file else None
        self._timeout_s = timeout_s
        self._lock = threading.Lock()
        self.last: deque[str] = deque(maxlen=MOST_TOLD)
        """The latest calls and what they came to, for people: paths and statuses, and nothing that was sent."""
        self.pace = Pace(AT_ONCE)
        self._http = self._made()

    def close(self) -> None:
        """Closes the line."""
        self._http.close()

    def call(self, method: str, path: str, is_read: bool, has_clock: bool = True, **options: Any) -> httpx.Response:
        """One call, with the options of the library. Unavailable where nothing was sent or nothing can have changed,
        Uncertain where a write may have taken effect. What has no clock may take as long as something moves."""
        http = self._open()
        try:
            with _ended_after(http, LONGEST_S if has_clock else None), http.stream(method, path, **options) as answer:
                body = bytearray()
                for piece in answer.iter_bytes():
                    # Pieces are unpacked already: what counts is what it takes in memory.
                    body += piece
                    if len(body) > MOST_BYTES:
                        raise self.lost(is_read, f"answers with more than {MOST_BYTES:,} bytes")
            self.last.append(f"{method} {answer.request.url.raw_path.decode()} -> {answer.status_code}")
            # Without the headers that say how it was packed: the body is no longer.
            kept = {name: value for name, value in answer.headers.items() if name.lower() not in _PACKED}
            return httpx.Response(answer.status_code, headers=kept, content=bytes(body))
        # Without a connection nothing was sent: this alone is certain to have had no effect.
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise Unavailable(
                f"{self.base_url} can't be reached ({failure_words(error)}).",
                subject=self.base_url,
                next_step=advice("Check that it is up, and its location in amphora.toml."),
            ) from error
        except (httpx.HTTPError, RuntimeError) as error:
            # The library says RuntimeError where its client was closed under it: by the clock, or it is a fault.
            if isinstance(error, RuntimeError) and not http.is_closed:
                raise
            took = (
                f"took longer than {LONGEST_S:.0f} seconds"
                if http.is_closed
                else f"gave no answer ({failure_words(error)})"
            )
            raise self.lost(is_read, took) from error

    def json(self, answer: httpx.Response) -> Any:
        """The JSON of an answer."""
        try:
            return parse_json(answer.content)
        except JsonFault as error:
            raise self.unlike() from error

    def lost(self, is_read: bool, words: str) -> Unavailable | Uncertain:
        """What a call that was sent and not answered properly means: of a write nobody knows."""
        kind = Unavailable if is_read else Uncertain
        return kind(
            f"{self.base_url} {words}.",
            subject=self.base_url,
            next_step=advice("Check that it is up, then try again."),
        )

    def unlike(self) -> EnvironmentRefused:
        """That what answers is something else than what the location says."""
        return EnvironmentRefused(
            f"{self.base_url} answers, but not as {self._speaks}.",
            subject=self.base_url,
            next_step=advice("Check its location in amphora.toml."),
        )

    def signed_out(self) -> EnvironmentRefused:
        """That it takes us for nobody."""
        words = (
            f'Set sign_in = "env:NAME" (and user, for {self._secret_kind}) in amphora.toml, and NAME in your shell.'
        )
        return EnvironmentRefused(
            f"{self.base_url} does not accept the sign-in.", subject=self.base_url, next_step=advice(words)
        )

    def _open(self) -> httpx.Client:
        """The client, or a new one with the same headers where a call that took too long has closed it: the engine
        looks at a target after whatever went wrong there."""
        with self._lock:
            if self._http.is_closed:
                self._http = self._made(self._http.headers)
            return self._http

    def _made(self, headers: httpx.Headers | None = None) -> httpx.Client:
        # Not by way of a proxy that some variable names: what is on loopback or in a plant's network is not behind
        # it.
        verify = self._trusted if self._trusted is not None else False
        transport = httpx.HTTPTransport(verify=verify, retries=TRIES - 1, trust_env=False)
        return httpx.Client(
            base_url=self.base_url,
            headers=headers,
            timeout=self._timeout_s,
            trust_env=False,
            transport=transport,
            follow_redirects=False,
        )


@contextmanager
def _ended_after(http: httpx.Client, seconds: float | None) -> Iterator[None]:
    """Ends a call that takes longer as a whole, by closing its client."""
    if seconds is None:
        yield
        return
    # From outside: while one byte comes every few seconds, nothing in the library ever looks at a clock.
    alarm = threading.Timer(seconds, http.close)
    alarm.daemon = True
    alarm.start()
    try:
        yield
    finally:
        alarm.cancel()


def checked_address(location: str, what: str) -> None:
    """UsageFault where a location is no address of `what`, or is plain HTTP to another machine: definitions, and the
    token, would be read along."""
    parts = urlsplit(location)
    if parts.scheme == "http" and parts.hostname not in LOOPBACK:
        raise UsageFault(
            f"{location} is not encrypted, and on another machine.",
            subject=location,
            next_step=advice("Write https:// in front of it; plain http:// is for this machine only."),
        )
    if not parts.hostname or parts.username or parts.password or parts.query or parts.fragment:
        raise UsageFault(
            f"A location of {what} is https://HOST or https://HOST/PATH.",
            subject=location,
            next_step=advice("Take everything else out; how to sign in stands in sign_in."),
        )


def wait_s(answer: httpx.Response, now: datetime | None = None) -> float:
    """How long a server asks to wait, in seconds or until a date (RFC 9110, section 10.2.3); a second where it says
    nothing that can be understood."""
    said = answer.headers.get("Retry-After", "").strip()
    if said.isdecimal():
        return min(float(said), LONGEST_WAIT_S)
    try:
        until = parsedate_to_datetime(said)
    except ValueError:
        return 1.0
    # A date without a zone is in GMT, as every date of HTTP is.
    until = until if until.tzinfo else until.replace(tzinfo=UTC)
    left = (until - (now or datetime.now(UTC))).total_seconds()
    return min(max(left, 0.0), LONGEST_WAIT_S)


def is_busy(answer: httpx.Response) -> bool:
    """Whether a server says that it is asked too much just now."""
    return answer.status_code in (httpx.codes.TOO_MANY_REQUESTS, httpx.codes.SERVICE_UNAVAILABLE)


def failure_words(error: Exception) -> str:
    """What went wrong, in words of our own: a library's message may quote an address, a header or a body."""
    kinds = {
        httpx.ConnectTimeout: "no connection in time",
        httpx.ConnectError: "no connection",
        httpx.UnsupportedProtocol: "an address that nobody understands",
        httpx.InvalidURL: "an address that nobody understands",
        httpx.ReadTimeout: "nothing came in time",
        httpx.WriteTimeout: "nothing could be sent in time",
        httpx.RemoteProtocolError: "the connection broke off, or that was no HTTP",
        httpx.LocalProtocolError: "nothing that can be sent",
        httpx.DecodingError: "what came could not be unpacked",
        httpx.TooManyRedirects: "it leads round in circles",
    }
    text = str(error).lower()
    if "certificate" in text:
        return "its certificate is not one that is trusted here; see ca_file"
    return next((words for kind, words in kinds.items() if isinstance(error, kind)), "the connection failed")


def trusted(ca_file: str) -> ssl.SSLContext:
    """Whom a server's certificate has to come from: the file that is named for the environment, else the one that
    SSL_CERT_FILE names, else those that everybody knows."""
    file = ca_file or os.environ.get("SSL_CERT_FILE", "")
    try:
        return ssl.create_default_context(cafile=file) if file else httpx.create_ssl_context(trust_env=False)
    except (OSError, ssl.SSLError) as error:
        raise UsageFault(
            f"{file} holds no certificates that can be read.",
            subject=file,
            next_step=advice("Name a PEM file in ca_file or SSL_CERT_FILE."),
        ) from error


def headed(secret: str, where: str) -> str:
    """A secret that can stand in a header. Looked at here: the library would refuse it too, and quote it whole."""
    if secret.isascii() and secret.isprintable():
        return secret
    raise UsageFault(
        f"The secret for {where} holds what no header can: a line break, or letters beyond ASCII.",
        subject=where,
        next_step=advice("Look at how it was copied."),
    )
