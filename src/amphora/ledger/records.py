"""What the ledger remembers, as values."""

from __future__ import annotations

from dataclasses import dataclass

from amphora.core.merge.compare import Base
from amphora.core.values.keys import Key
from amphora.core.values.model import Json, States


@dataclass(frozen=True)
class Delivery:
    """One item brought into one environment by one run. `base` is the package's side, `merged` what the
    target was made to be (what `verify` expects)."""

    key: Key
    native_id: str
    package: str
    source_uid: str
    version: str
    base: Base
    merged: Json
    merged_states: States


@dataclass(frozen=True)
class Delivered:
    """A delivery as it stands in the history of one item."""

    at: str
    run: str
    account: str
    delivery: Delivery


@dataclass(frozen=True)
class Run:
    """One execution of an import."""

    id: int
    name: str
    environment: str
    uid: str
    package: str
    version: str
    account: str
    state: str
    started_at: str
    ended_at: str | None
    note: str


@dataclass(frozen=True)
class JournalStep:
    """One journalled step: intent before, outcome after."""

    number: int
    do: str
    keys: tuple[Key, ...]
    intent: Json
    state: str
    outcome: Json


@dataclass(frozen=True)
class Export:
    """One recorded export."""

    at: str
    environment: str
    package: str
    version: str
    contents_digest: str
    package_digest: str
    file: str
    layout_digest: str = ""
