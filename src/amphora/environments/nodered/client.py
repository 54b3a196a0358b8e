"""The admin HTTP API of a runtime: requests, sign-in, and its errors in our words."""

from __future__ import annotations

import json
from typing import Any, Literal

import httpx

from amphora.core.values.errors import EnvironmentRefused, RevisionMoved, Unavailable, Uncertain
from amphora.core.values.next_step import advice

TIMEOUT_S = 30.0
_V2 = {"Node-RED-API-Version": "v2", "Accept": "application/json"}


class Client:
    """One signed-in connection to a runtime. `secret` is a bearer token, or `user`'s password."""

    def __init__(self, base_url: str, user: str = "", secret: str = "", timeout_s: float = TIMEOUT_S) -> None:
        self.base_url = base_url.rstrip("/")
        # Not by way of a proxy that some variable names: a runtime on loopback or in a plant's network is not
        # behind it.
        self._http = httpx.Client(base_url=self.base_url, timeout=timeout_s, trust_env=False)
        try:
            token = self._token(user, secret) if user and secret else secret
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
        if not isinstance(answer, dict) or "rev" not in answer:
            raise EnvironmentRefused(
                f"{self.base_url} answers, but not as Node-RED's admin API does.",
                subject=self.base_url,
                next_step=advice("Check host and port of its location in amphora.toml."),
            )
        return answer["flows"], answer["rev"]

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
        answer = self._call(method, path, json=body) if body is not None else self._call(method, path)
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

    def _call(self, method: str, path: str, **options: Any) -> httpx.Response:
        try:
            return self._http.request(method, path, headers=_V2, **options)
        # Without a connection nothing was sent: this alone is certain to have had no effect.
        except (httpx.ConnectError, httpx.ConnectTimeout, httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
            raise Unavailable(
                f"{self.base_url} can't be reached: {error or type(error).__name__}.",
                subject=self.base_url,
                next_step=advice("Check that the runtime is up, and its location in amphora.toml."),
            ) from error
        except httpx.HTTPError as error:
            kind = Uncertain if method == "POST" else Unavailable
            raise kind(
                f"{self.base_url} gave no answer: {error or type(error).__name__}.",
                subject=self.base_url,
                next_step=advice("Check that the runtime is up, then try again."),
            ) from error

    def _json(self, answer: httpx.Response) -> Any:
        try:
            return answer.json()
        except (json.JSONDecodeError, UnicodeDecodeError) as error:
            raise EnvironmentRefused(
                f"{self.base_url} answers, but not as Node-RED's admin API does.",
                subject=self.base_url,
                next_step=advice("Check host and port of its location in amphora.toml."),
            ) from error

    def _signed_out(self) -> EnvironmentRefused:
        return EnvironmentRefused(
            f"{self.base_url} does not accept the sign-in.",
            subject=self.base_url,
            next_step=advice(
                'Set sign_in = "env:NAME" (and user, for a password) in amphora.toml, and NAME in your shell.'
            ),
        )
