"""Calls of adapters over HTTP: whom to trust, how long to wait, and what went wrong in words of our own."""

from __future__ import annotations

import os
import ssl
import threading
import time
from collections import deque
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

import httpx

from amphora.core.values.errors import Busy, EnvironmentRefused, Failed, Unavailable, Uncertain, UsageFault
from amphora.core.values.next_step import advice
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.answers import failure_words, is_busy, wait_s
from amphora.environments.clock import CLOCK

TIMEOUT_S = 30.0
"""How long nothing may come."""

LONGEST_S = 300.0
"""How long an answer may take as a whole: one that drips never times out by itself."""

TRIES = 3
"""What may be asked again is, so often."""

LONGEST_JOB_S = 3600.0
"""After this long a write that is answered later counts as one of which nobody knows."""

MOST_TOLD = 4
"""So many calls are told where a promise is found broken."""

AT_ONCE = 4
"""How many calls are under way at once where a server takes them side by side: more would be felt by those who work
there."""

MOST_BYTES = 256 << 20
"""How large an answer may be, unpacked: what is small on the line may be huge in memory."""

LOOPBACK = ("127.0.0.1", "localhost", "::1")

_TURNED_AWAY = (400, 401, 403, 422)
"""What servers say to whoever shows a wrong secret; RFC 6749, section 5.2, says 400 or 401."""

_NOT_REACHED = (httpx.codes.BAD_GATEWAY, httpx.codes.GATEWAY_TIMEOUT)
"""What a gateway says that got no answer: of a read it is as good as a line that broke off."""

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
    answer, `secret_kind` what stands in sign_in where there is a user: both for people. Who speaks a protocol says
    how one signs in (`_sign_in`), whether that can be done anew (`_is_renewable`), and which calls may be
    repeated."""

    _is_renewable = False
    _writes_alone = False
    """Whether each write has a connection of its own: where one takes so long that the server, busy with what it was
    given, closes those that wait for it, with the next request in them."""

    def __init__(
        self, base_url: str, speaks: str, secret_kind: str, ca_file: str = "", timeout_s: float = TIMEOUT_S
    ) -> None:
        self.base_url = base_url.rstrip("/")
        self._speaks, self._secret_kind = speaks, secret_kind
        # Certificates that nobody will be shown are not read: that takes as long as some ten calls.
        self._trusted = trusted(ca_file) if base_url.startswith("https:") or ca_file else None
        self._timeout_s = timeout_s
        self._lock, self._signing = threading.Lock(), threading.RLock()
        self._signed: Mapping[str, str] | None = None
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
        for left in reversed(range(TRIES if is_read else 1)):
            shared = self._open()
            # Whatever waits in the line may be closed by the other end just as we speak.
            line = self._made(shared.headers) if self._writes_alone and not is_read else shared
            try:
                return self._answered(line, method, path, is_read, has_clock, options)
            except (httpx.HTTPError, RuntimeError) as error:
                # By the clock; the library says RuntimeError then, which otherwise is a fault.
                is_ended = line.is_closed
                if isinstance(error, RuntimeError) and not is_ended:
                    raise
                is_dropped = isinstance(error, httpx.NetworkError | httpx.RemoteProtocolError) and not is_ended
                # What changes nothing is asked again when a line went dead (RFC 9110, section 9.2.2).
                if not left or not is_dropped:
                    took = f"took longer than {LONGEST_S:.0f} seconds"
                    raise self.lost(
                        is_read, took if is_ended else f"gave no answer ({failure_words(error)})"
                    ) from error
            finally:
                if line is not shared:
                    line.close()
        raise AssertionError("the last try raises or returns")

    def _answered(
        self, http: httpx.Client, method: str, path: str, is_read: bool, has_clock: bool, options: dict[str, Any]
    ) -> httpx.Response:
        """One try at a call."""
        try:
            # From outside: while one byte comes every few seconds, nothing in the library ever looks at a clock.
            clock = CLOCK.over(LONGEST_S if has_clock else None, http.close)
            with clock, http.stream(method, path, **options) as answer:
                body = bytearray()
                for piece in answer.iter_bytes():
                    # Pieces are unpacked already: what counts is what it takes in memory.
                    body += piece
                    if len(body) > MOST_BYTES:
                        raise self.lost(is_read, f"answers with more than {MOST_BYTES:,} bytes")
        # Without a connection nothing was sent: this alone is certain to have had no effect.
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise Unavailable(
                f"{self.base_url} can't be reached ({failure_words(error)}).",
                subject=self.base_url,
                next_step=advice("Check that it is up, and its location in amphora.toml."),
            ) from error
        self.last.append(f"{method} {answer.request.url.raw_path.decode()} -> {answer.status_code}")
        # Without the headers that say how it was packed: the body is no longer.
        kept = {name: value for name, value in answer.headers.items() if name.lower() not in _PACKED}
        return httpx.Response(answer.status_code, headers=kept, content=bytes(body))

    def exchange(
        self,
        method: str,
        path: str,
        is_read: bool,
        headers: Mapping[str, str] | None = None,
        is_streamed: bool = False,
        **options: Any,
    ) -> httpx.Response:
        """One call, signed in, and repeated where that does no harm: a token has run out, or the server is busy. What
        is streamed is sent once, and may take as long as something moves."""
        is_renewed = False
        for attempt in range(TRIES + 1):
            signed = self.signed()
            answer = self.call(
                method,
                path,
                is_read,
                not is_streamed,
                headers={**signed, **(headers or {})},
                **self._dressed(options),
            )
            is_turned_away = self._is_unsigned(answer)
            if (is_streamed and not is_read) or attempt == TRIES:
                break
            if is_turned_away and self._is_renewable and not is_renewed:
                # Tokens may live shorter than a run: whoever is turned away has done nothing.
                is_renewed = True
                self._sign_out(signed)
            elif self._may_repeat(answer, is_read):
                self.pace.slower()
                time.sleep(wait_s(answer))
            else:
                break
        return answer

    def _is_unsigned(self, answer: httpx.Response) -> bool:
        """Whether an answer says that nobody is signed in (any more)."""
        return answer.status_code == httpx.codes.UNAUTHORIZED

    def _dressed(self, options: dict[str, Any]) -> dict[str, Any]:
        """What is sent, with what shows who is signed in, where that isn't a header."""
        return options

    def signed(self) -> Mapping[str, str]:
        """The headers that every call is sent with. Of the call and not of the line: whoever asks for a token may not
        show an old one beside it."""
        with self._signing:
            self._open()
            if self._signed is None:
                self._signed = self._sign_in()
            return self._signed

    def client_token(self, path: str, user: str, secret: str, scope: str = "", is_in_body: bool = False) -> str:
        """A token by a client's secret (RFC 6749, section 4.4), which is shown as section 2.3.1 says."""
        form = {"grant_type": "client_credentials", **({"scope": scope} if scope else {})}
        shown: dict[str, Any] = {"auth": (user, secret)}
        if is_in_body:
            form |= {"client_id": user, "client_secret": secret}
            shown = {}
        answer = self.call("POST", path, is_read=True, data=form, **shown)
        self.refuse_unsigned(answer)
        table = self.json(answer)
        token = table.get("access_token") if isinstance(table, dict) else None
        if not isinstance(token, str) or not token:
            raise self.unlike()
        return headed(token, self.base_url)

    def refuse_unsigned(self, answer: httpx.Response) -> None:
        """What an answer to whoever wants to sign in means that is no good one."""
        if answer.status_code in _TURNED_AWAY:
            raise self.signed_out()
        if answer.status_code >= httpx.codes.INTERNAL_SERVER_ERROR or is_busy(answer):
            raise self.lost(True, f"can't sign anybody in just now ({answer.status_code})")
        if not answer.is_success:
            # Nobody is there to sign in with: it is another address, or something else.
            raise self.unlike()

    def near(self, url: str) -> str:
        """A link's address, if it leads to this server: nobody sends us, and our token, elsewhere."""
        if not url:
            return ""
        there, here = self._http.base_url.join(url), self._http.base_url
        if there.host != here.host:
            raise self.unlike()
        # Many stand behind something else, and know neither the scheme nor the port by which they are asked.
        return str(here.copy_with(raw_path=there.raw_path))

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

    def failed(self, answer: httpx.Response, is_read: bool, words: str) -> Unavailable | Uncertain:
        """What it means that something went wrong on the server; after a write that failed there are fewer at once,
        for it may have been too much, whatever is said."""
        error = self.lost(is_read, words)
        if is_read:
            return error
        self.pace.slower()
        # Only 500 is the server's own word that it is done with it: a gateway that waited long enough says 502, 504,
        # or a number of its own, and behind it the call may go through yet.
        is_over = answer.status_code == httpx.codes.INTERNAL_SERVER_ERROR
        kind = Busy if is_busy(answer) else Failed if is_over else Uncertain
        return kind(error.message, subject=error.subject, next_step=error.next_step)

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
            f"{self.base_url} does not accept the sign-in.",
            subject=self.base_url,
            # Which call it was: signing in may take several, and each may be at another address.
            details=list(self.last)[-1:],
            next_step=advice(words),
        )

    def _sign_in(self) -> Mapping[str, str]:
        """Headers by which the server knows who we are."""
        return {}

    def _sign_out(self, signed: Mapping[str, str]) -> None:
        """Forgets what no longer counts, unless somebody beside us has got something new already."""
        with self._signing:
            if self._signed is signed:
                self._signed = None

    def _may_repeat(self, answer: httpx.Response, is_read: bool) -> bool:
        """Whether a call that was answered like this may be made once more."""
        # Reads only: of a write nobody knows whether the first one took effect.
        return is_read and (is_busy(answer) or answer.status_code in _NOT_REACHED)

    def _open(self) -> httpx.Client:
        """The client, or a new one with the same headers where a call that took too long has closed it: the engine
        looks at a target after whatever went wrong there."""
        with self._lock:
            if self._http.is_closed:
                self._http = self._made(self._http.headers)
                # It knows none of the cookies that may belong to a token.
                self._signed = None
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


def is_address(text: str) -> bool:
    """Whether it is a whole address to which a secret may be sent: encrypted, or on this machine."""
    try:
        parts = urlsplit(text)
    except ValueError:
        return False
    is_ours = parts.scheme == "http" and parts.hostname in LOOPBACK
    return bool(parts.hostname) and (is_ours or parts.scheme == "https") and "@" not in parts.netloc


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
