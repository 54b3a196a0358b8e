"""Old links: addresses of the source that still stand in texts of what was delivered, found by looking there."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from urllib.parse import urlsplit

from amphora.core.form.visit import texts_in
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item
from amphora.core.values.pointers import write_pointer

_ADDRESS = re.compile(r"https?://[^\s\"'<>\\)\]}]+")


@dataclass(frozen=True)
class OldLink:
    """An address of the source in a text: in which item, at which place."""

    key: Key
    place: str
    address: str


def old_links(items: Mapping[Key, Item], old: Iterable[str], new: Iterable[str]) -> list[OldLink]:
    """The addresses on hosts of old links, but on none of the new ones, that stand in items as they are now. In their
    portable forms: what looks like a secret in an address is hidden there."""
    hosts = _hosts(old) - _hosts(new)
    if not hosts:
        return []
    return [
        OldLink(key, write_pointer(at), address)
        for key, one in sorted(items.items())
        for at, text in texts_in(one.form)
        if "://" in text
        for address in dict.fromkeys(found.rstrip(".,;:!?") for found in _ADDRESS.findall(text))
        if _host(address) in hosts
    ]


def _hosts(addresses: Iterable[str]) -> set[str]:
    return {_host(address) for address in addresses} - {""}


def _host(address: str) -> str:
    """The host of an address, whatever its scheme; empty where it has none."""
    try:
        return (urlsplit(address).hostname or "").lower()
    except ValueError:
        return ""
