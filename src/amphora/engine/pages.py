"""Pages of delivered items: which open, and which don't although the platform has pages for their kind."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field
from urllib.parse import urldefrag

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Listed
from amphora.engine.session import Session
from amphora.engine.sides import Side
from amphora.environments.links import own_pages, pages_opened

MOST_OTHERS = 3
"""So many pages of other items of a kind are tried where none of ours opens."""


@dataclass(frozen=True)
class Pages:
    """What came of opening the links of items: how many were tried, and what came instead of a page, by item.
    `missing` are those of `closed` that should have opened: what is in use there has a page."""

    tried: int = 0
    closed: Mapping[Key, str] = field(default_factory=dict)
    missing: frozenset[Key] = frozenset()


def opened_pages(session: Session, side: Side, keys: Iterable[Key]) -> Pages:
    """Opens the links of items that are listed, of those that can be tried from here.

    Whoever isn't signed in gets a 404 from some platforms for what is a draft, and from interfaces that serve no
    pages for everything. So a page is missed only of what is in use, and only where another item of its kind has one.
    """
    rows = {key: side.by_key[key] for key in keys}
    found = _opened(session, side, rows)
    closed = {key: words for key, words in found.items() if words}
    suspect = {key for key in closed if _is_in_use(rows[key])}
    with_pages = {rows[key].kind for key, words in found.items() if not words}
    for kind in sorted({rows[key].kind for key in suspect} - with_pages):
        others = {k: row for k, row in side.by_key.items() if k not in rows and row.kind == kind and _is_in_use(row)}
        tried = _opened(session, side, dict(sorted(others.items())[:MOST_OTHERS]))
        with_pages |= {kind} if "" in tried.values() else set()
    return Pages(len(found), closed, frozenset(key for key in suspect if rows[key].kind in with_pages))


def _opened(session: Session, side: Side, rows: Mapping[Key, Listed]) -> dict[Key, str]:
    """Nothing where a page came, else what came in words."""
    entry = side.opened.entry
    ca_file = str(session.workspace.folder / entry.ca_file) if entry.ca_file else ""
    found = pages_opened(own_pages(entry.location, [row.link for row in rows.values()]), ca_file)
    return {key: found[page] for key, row in rows.items() if (page := urldefrag(row.link).url) in found}


def _is_in_use(row: Listed) -> bool:
    return not row.is_drafted_only and row.states.is_published is not False and row.states.is_on is not False
