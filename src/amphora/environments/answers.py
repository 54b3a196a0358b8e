"""What answers over HTTP say beside their bodies: how long to wait, and what went wrong, in words of our own."""

from __future__ import annotations

from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

import httpx

from amphora.core.values.digits import is_number

LONGEST_WAIT_S = 10.0
"""A server that asks for more patience between two tries is asked again all the same."""


def wait_s(answer: httpx.Response, now: datetime | None = None) -> float:
    """How long a server asks to wait, in seconds or until a date (RFC 9110, section 10.2.3); a second where it says
    nothing that can be understood."""
    said = answer.headers.get("Retry-After", "").strip()
    if is_number(said):
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
