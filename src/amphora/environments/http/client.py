"""One signed-in connection to a server of the environment protocol: requests, tokens, and its errors in our words."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any, NoReturn

import httpx

from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved, Unavailable, Uncertain
from amphora.core.values.next_step import NOTHING, advice
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.calls import (
    LONGEST_S,
    TIMEOUT_S,
    TRIES,
    ended_after,
    failure_words,
    headed,
    is_busy,
    trusted,
    wait_s,
)

MOST_BYTES = 256 << 20
"""How large an answer may be, unpacked; rows are streamed and have no such limit."""

SAFE = ("GET", "HEAD")


class Client:
    """`secret` is a bearer token, or the secret of the OAuth 2.0 client `user` (RFC 6749, section 4.4)."""

    def __init__(self, base_url: str, user: str = "", secret: str = "", ca_file: str = "") -> None:
        self.base_url = base_url.rstrip("/")
        self._user, self._secret = user, headed(secret, self.base_url)
        transport = httpx.HTTPTransport(verify=trusted(ca_file), retries=TRIES - 1, trust_env=False)
        self._http = httpx.Client(
            base_url=self.base_url, timeout=TIMEOUT_S, trust_env=False, transport=transport, follow_redirects=False
        )
        if secret and not user:
            self._http.headers["Authorization"] = f"Bearer {secret}"

    def close(self) -> None:
        """Closes the connection."""
        self._http.close()

    def get(self, path: str) -> Any:
        """The JSON that a path answers."""
        return self._json(self.sent("GET", path))

    def pages(self, path: str) -> Iterator[Any]:
        """The JSON of a path and of the pages behind it, as `Link` headers lead (RFC 8288)."""
        seen = set()
        while path and path not in seen:
            # A server whose last page leads back to the first would keep us for ever.
            seen.add(path)
            answer = self.sent("GET", path)
            yield self._json(answer)
            path = self._near(answer.links.get("next", {}).get("url", ""))

    def ask(self, path: str, body: Any) -> Any:
        """A question that needs a body: it changes nothing, and may be asked again."""
        return self._json(self.sent("POST", path, body, is_question=True))

    def sent(
        self,
        method: str,
        path: str,
        body: Any = None,
        headers: Mapping[str, str] | None = None,
        is_question: bool = False,
        content: Iterable[bytes] | None = None,
    ) -> httpx.Response:
        """One request, answered well. Asked again where the server is busy: what it refuses so it has not begun, and
        writes have a key by which it knows them. A token that has expired is renewed once."""
        is_read = method in SAFE or is_question
        for attempt in range(TRIES + 1):
            self._sign_in(anew=False)
            answer = self._call(method, path, body, headers or {}, is_read, content)
            if answer.status_code == httpx.codes.UNAUTHORIZED and self._user and attempt == 0 and content is None:
                self._sign_in(anew=True)
            elif is_busy(answer) and attempt < TRIES and content is None:
                time.sleep(wait_s(answer))
            else:
                break
        if answer.is_error or answer.is_redirect:
            self._refuse(answer, is_read)
        return answer

    def changed(self, method: str, path: str, **options: Any) -> Any:
        """The JSON that a write answers. Uncertain where that can't be read: what was asked for may be done."""
        answer = self.sent(method, path, **options)
        try:
            return parse_json(answer.content)
        except JsonFault as error:
            raise self.lost(False, "answered a write with something that can't be read") from error

    @contextmanager
    def streamed(self, path: str) -> Iterator[Iterator[bytes]]:
        """The body of a path in pieces, however large it is."""
        self._sign_in(anew=False)
        try:
            with self._http.stream("GET", path) as answer:
                if answer.is_error:
                    answer.read()
                    self._refuse(answer, True)
                yield answer.iter_bytes()
        except httpx.HTTPError as error:
            raise Unavailable(
                f"{self.base_url} gave no answer ({failure_words(error)}).", subject=self.base_url, next_step=_AGAIN
            ) from error

    def _call(
        self,
        method: str,
        path: str,
        body: Any,
        headers: Mapping[str, str],
        is_read: bool,
        content: Iterable[bytes] | None,
    ) -> httpx.Response:
        options: dict[str, Any] = {"content": content} if content is not None else {}
        options |= {"json": body} if body is not None else {}
        try:
            with (
                ended_after(self._http, LONGEST_S) as is_over,
                self._http.stream(method, path, headers=dict(headers), **options) as answer,
            ):
                whole = bytearray()
                for piece in answer.iter_bytes():
                    whole += piece
                    if len(whole) > MOST_BYTES:
                        raise self.lost(is_read, f"answers with more than {MOST_BYTES:,} bytes")
            kept = {name: value for name, value in answer.headers.items() if name.lower() not in _PACKED}
            return httpx.Response(answer.status_code, headers=kept, content=bytes(whole))
        # Without a connection nothing was sent: this alone is certain to have had no effect.
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise Unavailable(
                f"{self.base_url} can't be reached ({failure_words(error)}).", subject=self.base_url, next_step=_AGAIN
            ) from error
        except (httpx.HTTPError, RuntimeError) as error:
            # The library says RuntimeError where its client was closed under it: by us, or it is a fault.
            if isinstance(error, RuntimeError) and not is_over.is_set():
                raise
            took = (
                f"took longer than {LONGEST_S:.0f} seconds"
                if is_over.is_set()
                else f"gave no answer ({failure_words(error)})"
            )
            raise self.lost(is_read, took) from error

    def _sign_in(self, anew: bool) -> None:
        """Gets a token by the client's secret, where there is none yet or it is said to be out of date."""
        if not (self._user and self._secret) or ("Authorization" in self._http.headers and not anew):
            return
        form = {"grant_type": "client_credentials"}
        try:
            answer = self._http.post("/token", data=form, auth=(self._user, self._secret))
        except httpx.HTTPError as error:
            raise Unavailable(
                f"{self.base_url} can't be signed in to ({failure_words(error)}).",
                subject=self.base_url,
                next_step=_AGAIN,
            ) from error
        table = self._json(answer) if answer.status_code == httpx.codes.OK else {}
        token = table.get("access_token") if isinstance(table, dict) else None
        if not isinstance(token, str) or not token:
            raise self._signed_out()
        self._http.headers["Authorization"] = f"Bearer {headed(token, self.base_url)}"

    def _refuse(self, answer: httpx.Response, is_read: bool) -> NoReturn:
        """What an answer that is no good one means (RFC 9457 where the server says more)."""
        status = answer.status_code
        if status == httpx.codes.UNAUTHORIZED:
            raise self._signed_out()
        if is_busy(answer):
            raise Unavailable(f"{self.base_url} is busy.", subject=self.base_url, next_step=_AGAIN)
        # A gateway answers 502 or 504 for a call that went through.
        if status >= httpx.codes.INTERNAL_SERVER_ERROR:
            raise self.lost(is_read, f"failed with {status}")
        said = self._problem(answer)
        kinds: dict[str, type[AmphoraError]] = {"moved": RevisionMoved}
        kind = RevisionMoved if status == httpx.codes.PRECONDITION_FAILED else kinds.get(said.get("code", ""))
        words = said.get("detail") or f"it answers {status}"
        raise (kind or EnvironmentRefused)(
            f"{self.base_url} refused: {words.rstrip('.')}.",
            subject=self.base_url,
            next_step=_NEXT.get("moved" if kind is RevisionMoved else said.get("code", ""), NOTHING),
        )

    def _problem(self, answer: httpx.Response) -> dict[str, str]:
        try:
            table = parse_json(answer.content)
        except JsonFault:
            return {}
        return (
            {name: value for name, value in table.items() if isinstance(value, str)}
            if isinstance(table, dict)
            else {}
        )

    def _near(self, url: str) -> str:
        """The path of a link, if it leads to this server: nobody sends us, and our token, elsewhere."""
        if not url:
            return ""
        there, here = self._http.base_url.join(url), self._http.base_url
        if (there.scheme, there.host, there.port) != (here.scheme, here.host, here.port):
            raise self.unlike()
        return str(there)

    def _json(self, answer: httpx.Response) -> Any:
        try:
            return parse_json(answer.content)
        except JsonFault as error:
            raise self.unlike() from error

    def lost(self, is_read: bool, words: str) -> AmphoraError:
        """What a call that was sent and not answered properly means: of a write nobody knows."""
        kind = Unavailable if is_read else Uncertain
        return kind(f"{self.base_url} {words}.", subject=self.base_url, next_step=_AGAIN)

    def unlike(self) -> EnvironmentRefused:
        """That what answers is no server of the protocol."""
        return EnvironmentRefused(
            f"{self.base_url} answers, but not as the environment protocol says.",
            subject=self.base_url,
            next_step=advice("Check its location in amphora.toml."),
        )

    def _signed_out(self) -> EnvironmentRefused:
        return EnvironmentRefused(
            f"{self.base_url} does not accept the sign-in.",
            subject=self.base_url,
            next_step=advice('Set sign_in = "env:NAME" (and user, for a client\'s secret) in amphora.toml.'),
        )


_PACKED = ("content-encoding", "content-length", "transfer-encoding")
_AGAIN = advice("Check that it is up, then try again.")
_NEXT = {
    "forbidden": advice("Sign in with another account, or ask for the permission."),
    "moved": advice("Somebody is working there; run the same command again."),
    "taken": advice("Rename the other item, or say in the crosswalk under items: that it is the same."),
}
