"""What leads to another machine: a member by its name, or what stands in it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import urlsplit

from amphora.core.form.kinds import KindSheet, Outward
from amphora.core.form.spots import part_ids, spotted
from amphora.core.form.visit import texts_in
from amphora.core.values.model import Json
from amphora.core.values.pointers import Pointer
from amphora.core.values.tokens import PREFIX

_LOOKS_LIKE_ONE = re.compile(
    "|".join(
        (
            r"[a-z][a-z0-9+.-]*://[^\s/]+.*",  # a URL with a host
            r"(?=[^:]*[a-z])[a-z0-9](?:[a-z0-9.-]*[a-z0-9])?:\d{2,5}",  # a host, which no time of day is, with a port
            r"\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?",  # IPv4
            r"/dev/(?:tty|cu|serial)\S+|com\d{1,3}",  # a serial port of Linux, macOS or Windows
        )
    ),
    re.IGNORECASE,
)
_ID = re.compile(r"[0-9a-f]{16}|[0-9a-f]{6,8}\.[0-9a-f]{4,8}")
"""An id as flow runtimes give them, of now and of before: one that leads nowhere leads to no machine either."""

_INSIDE = re.compile(r"(?<![\w.+-])[a-z][a-z0-9+.-]*://[\w\[][^\s\"'`<>(){}|\\^;,]*", re.IGNORECASE)
"""A URL in code, in a command or among words; one whose machine is filled in at run time leads where that says."""

_IPV4 = r"\d{1,3}(?:\.\d{1,3}){3}(?::\d{1,5})?(?![.\d])"
_LABEL = r"[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\."
_PORT = r"[a-z][a-z-]*[a-z]:\d{2,5}"
_ENDS = "com|net|org|example"
_INNER = "local|lan|internal|intranet|corp|home|localdomain|test|dev|app|cloud|io"
_MACHINE = re.compile(
    "|".join(
        (
            rf"(?<=[\"'`])(?:(?:{_LABEL})+(?:{_ENDS})|(?:{_LABEL}){{2,}}(?:{_INNER}))(?=[\"'`/])",
            rf"(?<=[\"'`@])(?:(?:{_LABEL})+{_PORT}|{_IPV4})(?=[\"'`/])",
            rf"(?:(?<!\S)|(?<=\w@))(?:(?:{_LABEL}){{2,}}{_PORT}|{_IPV4})(?!\S)",
        )
    ),
    re.IGNORECASE,
)
"""A machine without a scheme: between quotation marks, or as a word of a command; `b.length:10` in code is none, nor
is `msg.payload.value` between quotation marks."""

_CALLED = re.compile(
    r"(?:host|hostname|server|broker|endpoint)[\"'`]?\s*[:=]\s*([\"'`])(?P<named>[a-z0-9][a-z0-9.-]*[a-z0-9])\1",
    re.IGNORECASE,
)
"""What code itself calls a machine: `host: "mill-db"`."""

_REMARK = re.compile(r"^\s*(?:#|\*|/\*)|(?:^|[^:])//")
"""What begins a remark, in front of something on its line: addresses in remarks are there to be read."""

_FILLED_IN = (PREFIX, "${", "{{", "/")
"""What begins like this is rewritten, filled in at run time, or a path on the machine itself."""


def is_address(name: str, text: str, outward: Outward) -> bool:
    """Whether the text of a member leads to another machine: by the member's name, or by what the text looks like."""
    if not text or _ID.fullmatch(text):
        return False
    return name in outward.members or (name not in outward.words and _LOOKS_LIKE_ONE.fullmatch(text) is not None)


def addresses_in(form: Json, sheet: KindSheet) -> Iterator[tuple[Pointer, str]]:
    """The addresses in what leads to other machines without being a connection, each with its place."""
    own = part_ids(form, sheet)
    for at, value, spot, _ in spotted(form, sheet, "is_outward"):
        if not spot.is_outward or (isinstance(value, dict) and value.get("type") in sheet.outward.never):
            continue
        for inner, text in texts_in(value):
            name = next((step for step in reversed(inner) if not step.isdigit()), "")
            is_own = text.startswith(_FILLED_IN) and not text.startswith("/dev/")
            if not is_own and text not in own and is_address(name, text, sheet.outward):
                yield (*at, *inner), text
            elif (":" in text or "." in text) and name not in sheet.outward.words:
                for address in _inside(text):
                    yield (*at, *inner), address


def _inside(text: str) -> Iterator[str]:
    """The addresses inside of a longer text, but for those in remarks."""
    for line in text.splitlines():
        # A machine that is called so and looks so is one.
        found = {(hit.start(), hit[0]) for hit in _MACHINE.finditer(line)}
        found |= {(hit.start("named"), hit["named"]) for hit in _CALLED.finditer(line)}
        found |= {(hit.start(), hit[0]) for hit in _INSIDE.finditer(line) if not _is_cut(line, hit)}
        for start, address in sorted(found):
            if not _REMARK.search(line[:start]):
                yield address


def _is_cut(line: str, hit: re.Match[str]) -> bool:
    """Half of a machine's name, which names none: `https://mill-{{site}}/…`."""
    return line[hit.end() : hit.end() + 1] in ("{", "<") and "/" not in hit[0].partition("://")[2]


def shown_address(text: str) -> str:
    """An address as it may be shown: of a URL only the scheme and the machine, for the rest may hold a secret."""
    try:
        url = urlsplit(text)
        port = f":{url.port}" if url.port else ""
    except ValueError:
        return text
    return f"{url.scheme}://{url.hostname}{port}" if url.scheme and url.hostname else text
