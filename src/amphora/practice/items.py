"""What the platform holds and says: its tables, its rows, its roles, its ids, its refusals."""

from __future__ import annotations

from typing import Any

from amphora.core.values.late import dataclass

JOINER = "#"
RELEASE = "2026.2"
PERMISSIONS = {
    "keeper": ("read", "write", "publish", "switch", "retire", "grant"),
    "publisher": ("read", "write", "publish", "switch"),
    "author": ("read", "write"),
    "reader": ("read",),
}
PREFIXES = {
    "app": "ap",
    "flow": "fl",
    "report": "re",
    "integration": "in",
    "table": "ta",
    "value-list": "vl",
    "theme": "th",
    "skin": "sn",
    "letter-template": "lt",
    "access-rule": "ar",
    "connection": "cn",
}
ID_PATTERN = "(?:" + "|".join(sorted(PREFIXES.values())) + ")-[0-9a-z]{8}"
TABLES = """
create table meta (name text primary key, value text not null);
create table accounts (address text primary key, role text not null);
create table supplies (
    id text primary key, kind text not null, name text not null, type text not null,
    owner text not null, works integer not null, objects text);
create table items (
    id text primary key, kind text not null, folder text not null, name text not null, title text not null,
    live text, draft text, is_on integer, revision integer not null,
    modified_at text not null, modified_by text not null, row_count integer,
    unique (kind, folder, name));
create table records (
    item_id text not null, number integer not null, body text not null, primary key (item_id, number));
create table answered (token text primary key, id text not null);
"""
FILE_TABLES = """
create table files (name text primary key, size integer not null, pieces text not null);
create table pieces (file text not null, number integer not null, body blob not null, primary key (file, number));
"""
"""Came later: attachments beside the definitions that name them, in pieces, so that none is ever in memory."""


class PlatformRefusal(Exception):
    """The platform says no. `code` is one of not-found, moved, taken, dangling, forbidden, in-use, invalid,
    too-much."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code
        self.message = message


@dataclass(frozen=True)
class PracticeItem:
    """A row of the platform. `draft` stands beside `live` where there are unpublished edits."""

    id: str
    kind: str
    folder: str
    name: str
    title: str
    live: Any
    draft: Any
    is_on: bool | None
    revision: int
    modified_at: str
    modified_by: str
    row_count: int | None

    @property
    def newest(self) -> Any:
        """The draft if there is one, else the live definition."""
        return self.live if self.draft is None else self.draft
