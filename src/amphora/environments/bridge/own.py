"""What each environment says for itself where several live on one server: a project, a space, a realm."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.core.values.strict_toml import line_of
from amphora.environments.bridge.lines import KNOWN

_NAME = re.compile(r"[a-z_]+")
_VALUE = re.compile(r"[\w.~-]+", re.ASCII)
"""What stands in a path as it is (RFC 3986, unreserved)."""


def own_names(table: Mapping[str, Any]) -> list[str]:
    """The names that a sheet asks for; none where what stands there is no list of texts."""
    names = table.get("own", [])
    return [name for name in names if isinstance(name, str)] if isinstance(names, list) else []


def own_faults(table: Mapping[str, Any], source: str) -> Iterator[str]:
    """Names that can't be placeholders, or are some already."""
    for name in own_names(table):
        if name in KNOWN | {"secret", "token", "null"} or not _NAME.fullmatch(name):
            words = "has to be small letters, and no placeholder that there is anyway"
            yield f"{line_of(source, 'own')}`own`: {name!r} {words}"


def checked_own(names: Sequence[str], own: Mapping[str, str], file: str, of: str) -> None:
    """UsageFault where an environment says something else than what its sheet asks for."""
    if spare := sorted(own.keys() - set(names)):
        raise UsageFault(
            f"The bridge sheet {file} asks for no {spare[0]!r}.",
            subject=of,
            details=[f"it asks for: {', '.join(names) or 'nothing'}"],
            next_step=advice(f"Leave it out, or say own = [{spare[0]!r}] in the sheet."),
        )
    for name in names:
        if name not in own:
            raise UsageFault(
                f"The bridge sheet {file} asks for the {name} of each environment, and {of} says none.",
                subject=of,
                next_step=advice(
                    f'Say --own {name}=… when it is added, or own = {{ {name} = "…" }} in amphora.toml.'
                ),
            )
        if not _VALUE.fullmatch(own[name]):
            raise UsageFault(
                f"{own[name]!r} can't be the {name} of {of}: it is a part of paths.",
                subject=of,
                next_step=advice("Write it with letters, digits, dashes, dots, underscores and tildes only."),
            )


def with_own(value: Any, own: Mapping[str, str]) -> Any:
    """A sheet with what an environment says for itself in the places of its names."""
    if isinstance(value, dict):
        return {name: with_own(part, own) for name, part in value.items()}
    if isinstance(value, list):
        return [with_own(part, own) for part in value]
    if isinstance(value, str):
        for name, said in own.items():
            value = value.replace(f"{{{name}}}", said)
    return value
