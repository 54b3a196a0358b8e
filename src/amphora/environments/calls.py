"""What adapters over HTTP share: whom to trust, how long to wait, and what went wrong in words of our own."""

from __future__ import annotations

import os
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice

TIMEOUT_S = 30.0
"""How long nothing may come."""

LONGEST_S = 300.0
"""How long an answer may take as a whole: one that drips never times out by itself."""

TRIES = 3
LONGEST_WAIT_S = 10.0
"""What may be asked again is, as often and after as long as the server says within these."""


@contextmanager
def ended_after(http: httpx.Client, seconds: float) -> Iterator[threading.Event]:
    """Ends a call that takes longer as a whole, by closing its client; the event says that it did."""
    is_over = threading.Event()

    def end() -> None:
        is_over.set()
        http.close()

    # From outside: while one byte comes every few seconds, nothing in the library ever looks at a clock.
    alarm = threading.Timer(seconds, end)
    alarm.daemon = True
    alarm.start()
    try:
        yield is_over
    finally:
        alarm.cancel()


def wait_s(answer: httpx.Response) -> float:
    """How long a server asks to wait. Seconds; or a date (RFC 9110, section 10.2.3), which is rare and waits as long
    as we would anyway."""
    said = answer.headers.get("Retry-After", "")
    return min(float(said) if said.isdigit() else 1.0, LONGEST_WAIT_S)


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
