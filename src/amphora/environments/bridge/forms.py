"""Bodies that are sent as forms: those that hold attachments (RFC 7578), and where the sheet says so."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from amphora.core.values.late import dataclass
from amphora.core.values.model import Json


@dataclass(frozen=True)
class Attached:
    """An attachment in a body."""

    content: bytes
    media_type: str


def holds_files(body: Mapping[str, Any]) -> bool:
    """Whether a body has to be sent as a form."""
    return any(isinstance(part, Attached) for part in body.values())


def form_of(body: Mapping[str, Any], title: str) -> dict[str, Any]:
    """A body as a form, for the HTTP library: texts as they are, anything else as JSON, nothing for null; files are
    called by the `title` of their item."""
    files = {
        name: (title or name, part.content, part.media_type)
        for name, part in body.items()
        if isinstance(part, Attached)
    }
    # All else first, as the library does it: some read no further than a file.
    rest = {name: part for name, part in body.items() if name not in files and part is not None}
    return {"data": {name: _field(part) for name, part in rest.items()}, "files": files}


def fields_of(body: Mapping[str, Any]) -> dict[str, Any]:
    """A body as the fields of a form (application/x-www-form-urlencoded), for the HTTP library: texts as they are,
    each of a list under the same name, an empty text for null, anything else as JSON."""
    return {"data": {name: _entries(part) for name, part in body.items()}}


def _entries(value: Json) -> str | list[str]:
    if isinstance(value, list) and not any(isinstance(one, dict | list) for one in value):
        return [_field(one) for one in value]
    return "" if value is None else _field(value)


def _field(value: Json) -> str:
    return value if isinstance(value, str) else json.dumps(value)
