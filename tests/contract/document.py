"""The environment protocol's document, and what isn't as it says."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import httpx
import jsonschema
import pytest
from ruamel.yaml import YAML

DOCUMENT = YAML(typ="safe").load(Path(__file__).parents[2] / "docs" / "environment-protocol.yaml")
JSON = ("application/json", "application/problem+json")


def schema_of(operation: Any, status: int) -> Any:
    """The schema of an answer, with all that it refers to; None where it has no JSON."""
    found = operation["responses"].get(str(status)) or operation["responses"]["default"]
    found = DOCUMENT["components"]["responses"][found["$ref"].rsplit("/", 1)[-1]] if "$ref" in found else found
    media = found.get("content", {})
    kind = next((name for name in media if name in JSON), "")
    return {**media[kind]["schema"], "components": DOCUMENT["components"]} if kind else None


def watched(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Lets every call of this process be compared with the document; the list grows by what isn't as it says."""
    found: list[str] = []
    send = httpx.Client.send

    def sent(client: httpx.Client, request: httpx.Request, **options: Any) -> httpx.Response:
        answer = send(client, request, **options)
        answer.read()
        found.extend(at_fault(request, answer))
        return answer

    monkeypatch.setattr(httpx.Client, "send", sent)
    return found


def at_fault(request: httpx.Request, answer: httpx.Response) -> list[str]:
    """In which ways a call and its answer are not as the document says."""
    raw = request.url.raw_path.decode("ascii").partition("?")[0]
    path = "/" + "/".join(raw.split("/")[2:])
    # A path that is named wins over one with an id in it, as OpenAPI has it.
    names = sorted(DOCUMENT["paths"], key=lambda name: name.count("{"))
    known = next((one for one in names if re.fullmatch(re.sub(r"{\w+}", "[^/]+", one), path)), "")
    if not (operation := DOCUMENT["paths"].get(known, {}).get(request.method.lower())):
        return [f"{request.method} {path} is not in the document"]
    at = f"{request.method} {known}"
    found = [f"{at}: {one}" for one in [*_parameters(request, known, operation), *_body(request, operation)]]
    if answer.headers.get("Content-Type", "").endswith("json") and (
        schema := schema_of(operation, answer.status_code)
    ):
        found += [] if _fits(answer.json(), schema) else [f"{at}: {answer.status_code} {answer.text[:200]}"]
    return found


def _parameters(request: httpx.Request, known: str, operation: Any) -> list[str]:
    shared = DOCUMENT["components"]["parameters"]
    given = [*DOCUMENT["paths"][known].get("parameters", ()), *operation.get("parameters", ())]
    named = [shared[one["$ref"].rsplit("/", 1)[-1]] if "$ref" in one else one for one in given]
    queries = {one["name"] for one in named if one["in"] == "query"}
    found = [f"?{name}" for name in request.url.params if name not in queries]
    for one in (one for one in named if one["in"] == "header"):
        value = request.headers.get(one["name"])
        if one.get("required", False) if value is None else not _fits(value, one["schema"]):
            found.append(f"{one['name']}: {value}")
    return found


def _body(request: httpx.Request, operation: Any) -> list[str]:
    media = operation.get("requestBody", {}).get("content", {})
    kind = request.headers.get("Content-Type", "").partition(";")[0]
    if kind not in media:
        return [f"a body of {kind or 'no type'}"] if kind or media else []
    if kind != "application/json" or _fits(json.loads(request.content), media[kind]["schema"]):
        return []
    return [repr(request.content[:200])]


def _fits(value: Any, schema: Any) -> bool:
    fits: bool = jsonschema.Draft202012Validator({**schema, "components": DOCUMENT["components"]}).is_valid(value)
    return fits
