"""One signed-in connection to a server of the environment protocol: requests, tokens, and its errors in our words."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any, NoReturn

import httpx

from amphora.core.values.errors import AmphoraError, EnvironmentRefused, RevisionMoved, Unavailable
from amphora.core.values.next_step import NOTHING, advice
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.answers import failure_words, is_busy, wait_s
from amphora.environments.calls import LONGEST_JOB_S, Caller, headed
from amphora.environments.contract import NEXT

SAFE = ("GET", "HEAD")
_NO_ANSWER = (401, 404, 410, 429)
"""What is answered to whoever asks after a job without being the answer of the job."""


def _fault_words(fault: Exception) -> str:
    if isinstance(fault, KeyError):
        return f"{fault.args[0]!r} is missing"
    if isinstance(fault, AmphoraError):
        return fault.message
    return "something of it is of another type than it should be"


class Client(Caller):
    """`secret` is a bearer token, or the secret of the OAuth 2.0 client `user` (RFC 6749, section 4.4)."""

    def __init__(self, base_url: str, user: str = "", secret: str = "", ca_file: str = "") -> None:
        self._user, self._secret = user, headed(secret, base_url)
        super().__init__(base_url, "the environment protocol says", "a client's secret", ca_file)
        self._is_renewable = bool(user)

    def unlike(self, fault: Exception | None = None) -> EnvironmentRefused:
        """That what answers is something else; perhaps a platform with an interface of its own. `fault` is what was
        found when its answer was read."""
        error = super().unlike()
        words = "Check its location in amphora.toml; a platform with an interface of its own needs a bridge sheet"
        error.next_step = advice(f"{words} (docs/bridges.md).")
        if fault:
            # For whoever serves the protocol: the call, and what of its answer is not as it should be.
            further = fault.details if isinstance(fault, AmphoraError) else ()
            error.details = (f"{self.last[-1] if self.last else 'its answer'}: {_fault_words(fault)}", *further)
        return error

    def get(self, path: str) -> Any:
        """The JSON that a path answers."""
        return self.json(self.sent("GET", path))

    def pages(self, path: str) -> Iterator[Any]:
        """The JSON of a path and of the pages behind it, as `Link` headers lead (RFC 8288)."""
        seen = set()
        while path and path not in seen:
            # A server whose last page leads back to the first would keep us for ever.
            seen.add(path)
            answer = self.sent("GET", path)
            yield self.json(answer)
            path = self.near(answer.links.get("next", {}).get("url", ""))

    def ask(self, path: str, body: Any) -> Any:
        """A question that needs a body: it changes nothing, and may be asked again."""
        return self.json(self.sent("POST", path, body, is_question=True))

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
        options: dict[str, Any] = {"content": content, "is_streamed": True} if content is not None else {}
        options |= {"json": body} if body is not None else {}
        # What takes long may be answered later (RFC 7240): a line that is silent for minutes is cut by somebody.
        given = dict(headers or {}) if is_read else {"Prefer": "respond-async", **(headers or {})}
        answer = self.exchange(method, path, is_read, given, **options)
        if answer.status_code == httpx.codes.ACCEPTED and not is_read:
            answer = self._awaited(answer)
        if answer.is_error or answer.is_redirect:
            self._refuse(answer, is_read)
        self.pace.well()
        return answer

    def _awaited(self, answer: httpx.Response) -> httpx.Response:
        """What a write came to that is answered later, asked after as often as the server says. Uncertain where
        nobody tells: it was taken, and may be under way."""
        until, where = time.monotonic() + LONGEST_JOB_S, ""
        while answer.status_code == httpx.codes.ACCEPTED:
            try:
                where = self.near(answer.headers.get("Location", "")) or where
                if not where or time.monotonic() > until:
                    raise self.lost(False, "took a write, and doesn't say what came of it")
                time.sleep(wait_s(answer))
                answer = self.exchange("GET", where, True)
            except (EnvironmentRefused, Unavailable) as error:
                # Of the question, and not of the write: that was taken.
                raise self.lost(False, "took a write, and can't be asked any more what came of it") from error
            if answer.status_code in _NO_ANSWER or answer.status_code >= httpx.codes.INTERNAL_SERVER_ERROR:
                raise self.lost(False, "took a write, and no longer knows of it")
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
        signed = self.signed()
        try:
            with self._open().stream("GET", path, headers=signed) as answer:
                if answer.is_error:
                    answer.read()
                    self._refuse(answer, True)
                yield answer.iter_bytes()
        except httpx.HTTPError as error:
            raise self.lost(True, f"gave no answer ({failure_words(error)})") from error

    def _sign_in(self) -> Mapping[str, str]:
        token = self._secret
        if self._user and self._secret:
            token = self.client_token("/token", self._user, self._secret)
        return {"Authorization": f"Bearer {token}"} if token else {}

    def _may_repeat(self, answer: httpx.Response, is_read: bool) -> bool:
        # Writes too: what a server refuses as too much it has not begun, and each has a key by which it is known.
        return is_busy(answer)

    def _refuse(self, answer: httpx.Response, is_read: bool) -> NoReturn:
        """What an answer that is no good one means (RFC 9457 where the server says more)."""
        status = answer.status_code
        if status == httpx.codes.UNAUTHORIZED:
            raise self.signed_out()
        if is_busy(answer):
            raise self.lost(True, "is busy")
        if status >= httpx.codes.INTERNAL_SERVER_ERROR:
            raise self.failed(answer, is_read, f"failed with {status}")
        said = self._problem(answer)
        code = "moved" if status == httpx.codes.PRECONDITION_FAILED else said.get("code", "")
        kind: type[AmphoraError] = RevisionMoved if code == "moved" else EnvironmentRefused
        words = said.get("detail") or f"it answers {status}"
        raise kind(
            f"{self.base_url} refused: {words.rstrip('.')}.",
            subject=self.base_url,
            next_step=NEXT.get(code, NOTHING),
        )

    def _problem(self, answer: httpx.Response) -> dict[str, str]:
        try:
            table = parse_json(answer.content)
        except JsonFault:
            return {}
        members = table.items() if isinstance(table, dict) else ()
        return {name: value for name, value in members if isinstance(value, str)}
