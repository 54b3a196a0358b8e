"""Signing in to a platform as its bridge sheet says: the headers with which every call goes out."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from typing import Any, Protocol
from urllib.parse import unquote

import httpx

from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.core.values.words import few
from amphora.environments.bridge.parts import BridgeSheet, Call
from amphora.environments.bridge.paths import filled, text_at
from amphora.environments.calls import headed


class Line(Protocol):
    """What signing in takes of the line to a platform."""

    base_url: str

    def path_of(self, said: str, values: Mapping[str, Json]) -> str:
        """Where a call goes."""
        ...

    def sign(self, call: Call, path: str, headers: Mapping[str, str], **options: Any) -> httpx.Response:
        """What one of its calls answers; EnvironmentRefused where it knows nobody by that."""
        ...

    def client_token(self, path: str, user: str, secret: str, scope: str = "", is_in_body: bool = False) -> str:
        """A token by a client's secret."""
        ...

    def cookies(self) -> Mapping[str, str]:
        """The cookies that the platform has set, by name."""
        ...

    def otherwise(self, call: Call, words: str) -> EnvironmentRefused:
        """That a call is answered otherwise than the sheet says."""
        ...


@dataclass(frozen=True)
class Signed:
    """The headers by which the platform knows who asks, and the token that stands for it in bodies."""

    headers: Mapping[str, str]
    shown: str


def signed_in(line: Line, sheet: BridgeSheet, user: str, secret: str) -> Signed:
    """Signs in; EnvironmentRefused where what answers is not what the sheet says."""
    table, headers, shown = sheet.sign_in, dict[str, str](), secret
    values: dict[str, Json] = {"user": user, "secret": secret, "address": line.base_url}
    headers |= {name: str(filled(text, values)) for name, text in table.get("fixed", {}).items()}
    how = table.get("how", "none")
    if how == "bearer" and secret:
        headers["Authorization"] = f"{table.get('scheme', 'Bearer')} {secret}".strip()
    elif how == "basic":
        pair = base64.b64encode(f"{user}:{secret}".encode()).decode()
        headers["Authorization"] = f"Basic {pair}"
    elif how == "header":
        headers[table["header"]] = f"{table.get('scheme', '')} {secret}".strip()
    elif how == "client":
        is_in_body = table.get("credentials") == "body"
        path = line.path_of(table["token"], {})
        token = line.client_token(path, user, secret, table.get("scope", ""), is_in_body)
        headers["Authorization"] = f"Bearer {token}"
    elif how == "login":
        assert sheet.login
        shown = _token(line, sheet.login, values, headers)
        # Where it stands in the bodies it may be no header at all, and a cookie goes along by itself.
        if header := table.get("header", "" if sheet.login.said("cookie") else "Authorization"):
            headers[header] = f"{table.get('scheme', 'Bearer')} {shown}".strip()
    for call in sheet.also:
        headers[call.said("header")] = _token(line, call, values, headers)
    return Signed(headers, shown)


def _token(line: Line, call: Call, values: Mapping[str, Json], headers: Mapping[str, str]) -> str:
    """What a call gives to be shown: a part of its answer, or a cookie that it sets."""
    options: dict[str, Any] = {"json": filled(call.body, values)} if call.body is not None else {}
    # As RFC 6749 wants it, and whoever follows it.
    options |= {"data": filled(form, values)} if (form := call.said("form", None)) else {}
    more = {name: str(filled(text, values)) for name, text in call.headers.items()}
    answer = line.sign(call, line.path_of(call.path, values), {**headers, **more}, **options)
    if name := call.said("cookie"):
        # Percent-encoded, as cookies hold what isn't plain: whoever compares it has the text.
        token = unquote(line.cookies().get(name, ""))
        missing = f"it sets no cookie {name}"
    else:
        try:
            token, missing = text_at(parse_json(answer.content), call.at), f"at {call.at} there is no token"
        except JsonFault as error:
            words = "an answer without JSON, in which no token can stand"
            set_ = few([f'cookie = "{one}"' for one in line.cookies()])
            hint = f"; if the cookie that it set is one, write {set_}" if set_ else ""
            raise line.otherwise(call, f"{answer.status_code} and {words}{hint}") from error
    if not token:
        raise line.otherwise(call, missing)
    return headed(token, line.base_url)
