"""The admin HTTP API of a runtime: requests, sign-in, and its errors in our words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import httpx

from amphora.core.values.errors import EnvironmentRefused, RevisionMoved, Uncertain
from amphora.core.values.next_step import advice
from amphora.environments.calls import TIMEOUT_S, Caller, headed


class Client(Caller):
    """One signed-in connection to a runtime. `secret` is a bearer token, or `user`'s password."""

    # Nodes are started behind an answered deploy: for seconds nobody is heard then.
    _writes_alone = True

    def __init__(
        self, base_url: str, user: str = "", secret: str = "", timeout_s: float = TIMEOUT_S, ca_file: str = ""
    ) -> None:
        super().__init__(base_url, "Node-RED's admin API does", "a password", ca_file, timeout_s)
        self._http.headers.update({"Node-RED-API-Version": "v2", "Accept": "application/json"})
        # A password has other letters than a header may hold: it never stands in one.
        self._user, self._secret = user, secret if user else headed(secret, self.base_url)
        self._is_renewable = bool(user)
        self._flows: tuple[str, list[dict[str, Any]], str] = ("", [], "")
        try:
            # At once, so that a wrong password is told before anything else is.
            self.signed()
        except BaseException:
            self.close()
            raise

    def get(self, path: str) -> Any:
        """The JSON that a path answers."""
        return self.json(self._sent("GET", path))

    def flows(self) -> tuple[list[dict[str, Any]], str]:
        """The whole flow file and its revision; the same list as before while it says the same. It is asked for many
        times in a run, for others work in the same file: only what changed is sent once more."""
        known, flows, revision = self._flows
        sent = self._sent("GET", "/flows", headers={"If-None-Match": known} if known else None)
        if sent.status_code == httpx.codes.NOT_MODIFIED and known:
            return flows, revision
        flows, revision = self._file(self.json(sent))
        self._flows = sent.headers.get("ETag", ""), flows, revision
        return flows, revision

    def _file(self, answer: Any) -> tuple[list[dict[str, Any]], str]:
        flows = answer.get("flows") if isinstance(answer, dict) else None
        is_fit = isinstance(flows, list) and isinstance(answer.get("rev"), str)
        # Every node once, here: behind this line each has an id and a type, both texts.
        if not is_fit or not all(isinstance(node, dict) and _is_node(node) for node in flows or ()):
            raise self.unlike()
        return flows or [], answer["rev"]

    def table(self, path: str) -> dict[str, Any]:
        """The JSON object that a path answers."""
        answer = self.get(path)
        if not isinstance(answer, dict):
            raise self.unlike()
        return answer

    def types(self) -> set[str]:
        """The types of nodes that are installed and switched on."""
        modules = self.get("/nodes")
        if not isinstance(modules, list) or not all(isinstance(module, dict) for module in modules):
            raise self.unlike()
        found = [module.get("types", []) for module in modules if module.get("enabled")]
        if not all(isinstance(types, list) and all(isinstance(type_, str) for type_ in types) for types in found):
            raise self.unlike()
        return {type_ for types in found for type_ in types}

    def deploy(self, flows: list[dict[str, Any]], revision: str) -> str:
        """Writes the whole flow file over a revision; the new revision. One atomic call. Uncertain where the
        answer is missing, can't be read, or tells of trouble behind the door: it may have taken effect."""
        answer = self._sent("POST", "/flows", {"flows": flows, "rev": revision})
        try:
            return str(self.json(answer)["rev"])
        except (EnvironmentRefused, KeyError, TypeError) as error:
            raise Uncertain(
                f"{self.base_url} answered a deploy with something that can't be read.", subject=self.base_url
            ) from error

    def _sign_in(self) -> Mapping[str, str]:
        token = self._token(self._user, self._secret) if self._user and self._secret else self._secret
        return {"Authorization": f"Bearer {headed(token, self.base_url)}"} if token else {}

    def _token(self, user: str, password: str) -> str:
        form = {"client_id": "node-red-admin", "grant_type": "password", "scope": "*"}
        # A user may be allowed less than everything, and a runtime refuses a scope that goes beyond that as a whole.
        # From most to least: what the account may do is found by asking, and compared with what the import needs
        # later.
        for scope in ("*", "flows.read flows.write credentials.read nodes.read settings.read", "read"):
            said = {**form, "scope": scope, "username": user, "password": password}
            answer = self.call("POST", "/auth/token", is_read=True, data=said)
            if answer.status_code == httpx.codes.OK:
                return str(self.json(answer)["access_token"])
        raise self.signed_out()

    def _sent(
        self,
        method: Literal["GET", "POST"],
        path: str,
        body: Any = None,
        headers: Mapping[str, str] | None = None,
    ) -> httpx.Response:
        is_read = body is None
        answer = self.exchange(method, path, is_read, headers, **({} if is_read else {"json": body}))
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            raise self.signed_out()
        # The runtime compares the revision that we sent with its own, and has done nothing.
        if answer.status_code == httpx.codes.CONFLICT:
            raise RevisionMoved(
                f"{self.base_url} was changed by somebody else meanwhile.",
                subject=self.base_url,
                next_step=advice("Run the same command again."),
            )
        if answer.status_code == httpx.codes.REQUEST_ENTITY_TOO_LARGE:
            raise EnvironmentRefused(f"{self.base_url} refused: the flow file is larger than it takes.")
        if answer.status_code >= httpx.codes.INTERNAL_SERVER_ERROR:
            raise self.failed(answer, is_read, f"failed with {answer.status_code}")
        if answer.is_error:
            raise EnvironmentRefused(f"{self.base_url} refused {method} {path} with {answer.status_code}.")
        return answer


def _is_node(node: Mapping[str, Any]) -> bool:
    return isinstance(node.get("id"), str) and isinstance(node.get("type"), str)
