"""The admin HTTP API of a runtime: requests, sign-in, and its errors in our words."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any, Literal

import httpx

from amphora.core.values.errors import EnvironmentRefused, RevisionMoved, Unavailable, Uncertain
from amphora.core.values.next_step import advice
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments import calls
from amphora.environments.calls import (
    TIMEOUT_S,
    TRIES,
    ended_after,
    failure_words,
    headed,
    is_busy,
    trusted,
    wait_s,
)

LONGEST_S = calls.LONGEST_S
MOST_BYTES = 256 << 20
"""How large an answer may be, unpacked: what is small on the line may be huge in memory."""

_V2 = {"Node-RED-API-Version": "v2", "Accept": "application/json"}


class Client:
    """One signed-in connection to a runtime. `secret` is a bearer token, or `user`'s password."""

    def __init__(
        self, base_url: str, user: str = "", secret: str = "", timeout_s: float = TIMEOUT_S, ca_file: str = ""
    ) -> None:
        self.base_url = base_url.rstrip("/")
        # Not by way of a proxy that some variable names: a runtime on loopback or in a plant's network is not
        # behind it.
        transport = httpx.HTTPTransport(verify=trusted(ca_file), retries=TRIES - 1, trust_env=False)
        self._http = httpx.Client(
            base_url=self.base_url, timeout=timeout_s, trust_env=False, transport=transport, follow_redirects=False
        )
        try:
            token = headed(self._token(user, secret) if user and secret else secret, self.base_url)
        except BaseException:
            self._http.close()
            raise
        if token:
            self._http.headers["Authorization"] = f"Bearer {token}"

    def close(self) -> None:
        """Closes the connection."""
        self._http.close()

    def get(self, path: str) -> Any:
        """The JSON that a path answers."""
        return self._json(self._sent("GET", path))

    def flows(self) -> tuple[list[dict[str, Any]], str]:
        """The whole flow file and its revision."""
        answer = self.get("/flows")
        flows = answer.get("flows") if isinstance(answer, dict) else None
        is_fit = isinstance(flows, list) and isinstance(answer.get("rev"), str)
        # Every node once, here: behind this line each has an id and a type, both texts.
        if not is_fit or not all(isinstance(node, dict) and _is_node(node) for node in flows or ()):
            raise self._unlike()
        return flows or [], answer["rev"]

    def table(self, path: str) -> dict[str, Any]:
        """The JSON object that a path answers."""
        answer = self.get(path)
        if not isinstance(answer, dict):
            raise self._unlike()
        return answer

    def types(self) -> set[str]:
        """The types of nodes that are installed and switched on."""
        modules = self.get("/nodes")
        if not isinstance(modules, list) or not all(isinstance(module, dict) for module in modules):
            raise self._unlike()
        found = [module.get("types", []) for module in modules if module.get("enabled")]
        if not all(isinstance(types, list) and all(isinstance(type_, str) for type_ in types) for types in found):
            raise self._unlike()
        return {type_ for types in found for type_ in types}

    def deploy(self, flows: list[dict[str, Any]], revision: str) -> str:
        """Writes the whole flow file over a revision; the new revision. One atomic call. Uncertain where the
        answer is missing, can't be read, or tells of trouble behind the door: it may have taken effect."""
        answer = self._sent("POST", "/flows", {"flows": flows, "rev": revision})
        try:
            return str(self._json(answer)["rev"])
        except (EnvironmentRefused, KeyError, TypeError) as error:
            raise Uncertain(
                f"{self.base_url} answered a deploy with something that can't be read.", subject=self.base_url
            ) from error

    def _token(self, user: str, password: str) -> str:
        form = {"client_id": "node-red-admin", "grant_type": "password", "scope": "*"}
        # A user may be allowed less than everything, and a runtime refuses a scope that goes beyond that as a whole.
        # From most to least: what the account may do is found by asking, and compared with what the import needs
        # later.
        for scope in ("*", "flows.read flows.write credentials.read nodes.read settings.read", "read"):
            answer = self._call(
                "POST", "/auth/token", data={**form, "scope": scope, "username": user, "password": password}
            )
            if answer.status_code == httpx.codes.OK:
                return str(self._json(answer)["access_token"])
        raise self._signed_out()

    def _sent(self, method: Literal["GET", "POST"], path: str, body: Any = None) -> httpx.Response:
        answer = self._call(method, path, json=body) if body is not None else self._patiently(method, path)
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            raise self._signed_out()
        # The runtime compares the revision that we sent with its own, and has done nothing.
        if answer.status_code == httpx.codes.CONFLICT:
            raise RevisionMoved(
                f"{self.base_url} was changed by somebody else meanwhile.",
                subject=self.base_url,
                next_step=advice("Run the same command again."),
            )
        if answer.status_code == httpx.codes.REQUEST_ENTITY_TOO_LARGE:
            raise EnvironmentRefused(f"{self.base_url} refused: the flow file is larger than it takes.")
        # A gateway in front of a runtime answers 502 or 504 for a deploy that went through.
        if answer.status_code >= httpx.codes.INTERNAL_SERVER_ERROR:
            kind = Uncertain if method == "POST" else Unavailable
            raise kind(f"{self.base_url} failed with {answer.status_code}.", next_step=advice("Try again later."))
        if answer.is_error:
            raise EnvironmentRefused(f"{self.base_url} refused {method} {path} with {answer.status_code}.")
        return answer

    def _patiently(self, method: str, path: str) -> httpx.Response:
        """A read, asked again where the server says that it is busy."""
        for attempt in range(TRIES):
            answer = self._call(method, path)
            # Reads only: of a write nobody knows whether the first one took effect.
            if not is_busy(answer) or attempt == TRIES - 1:
                break
            time.sleep(wait_s(answer))
        return answer

    def _call(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            with (
                ended_after(self._http, LONGEST_S) as is_over,
                self._http.stream(method, path, headers=_V2, **options) as answer,
            ):
                body = bytearray()
                for piece in answer.iter_bytes():
                    # Pieces are unpacked already: what counts is what it takes in memory.
                    body += piece
                    if len(body) > MOST_BYTES:
                        raise self._failed(method, f"answers with more than {MOST_BYTES:,} bytes")
            # Without the header that says how it was packed: the body is no longer.
            return httpx.Response(answer.status_code, headers=_plain(answer.headers), content=bytes(body))
        # Without a connection nothing was sent: this alone is certain to have had no effect.
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise Unavailable(
                f"{self.base_url} can't be reached ({failure_words(error)}).",
                subject=self.base_url,
                next_step=advice("Check that the runtime is up, and its location in amphora.toml."),
            ) from error
        except (httpx.HTTPError, RuntimeError) as error:
            if isinstance(error, RuntimeError) and not is_over.is_set():
                raise
            took = (
                f"took longer than {LONGEST_S:.0f} seconds"
                if is_over.is_set()
                else f"gave no answer ({failure_words(error)})"
            )
            raise self._failed(method, took) from error

    def _failed(self, method: str, words: str) -> Uncertain | Unavailable:
        """What a call that was sent and not answered properly means: of a write nobody knows."""
        kind = Uncertain if method == "POST" else Unavailable
        return kind(
            f"{self.base_url} {words}.",
            subject=self.base_url,
            next_step=advice("Check that the runtime is up, then try again."),
        )

    def _json(self, answer: httpx.Response) -> Any:
        try:
            return parse_json(answer.content)
        except JsonFault as error:
            raise self._unlike() from error

    def _unlike(self) -> EnvironmentRefused:
        return EnvironmentRefused(
            f"{self.base_url} answers, but not as Node-RED's admin API does.",
            subject=self.base_url,
            next_step=advice("Check host and port of its location in amphora.toml."),
        )

    def _signed_out(self) -> EnvironmentRefused:
        return EnvironmentRefused(
            f"{self.base_url} does not accept the sign-in.",
            subject=self.base_url,
            next_step=advice(
                'Set sign_in = "env:NAME" (and user, for a password) in amphora.toml, and NAME in your shell.'
            ),
        )


def _is_node(node: Mapping[str, Any]) -> bool:
    return isinstance(node.get("id"), str) and isinstance(node.get("type"), str)


def _plain(headers: httpx.Headers) -> dict[str, str]:
    """The headers that mean something to us; the body is unpacked already."""
    return {name: headers[name] for name in ("Retry-After", "Content-Type") if name in headers}
