"""What a platform has on offer, by its bridge sheet: connections, people, settings."""

from __future__ import annotations

from collections.abc import Iterator

from amphora.core.form.kinds import Ids
from amphora.core.form.native_ids import opened_id
from amphora.core.values.model import Json, Supply
from amphora.environments.bridge.client import Client
from amphora.environments.bridge.parts import BridgeSheet, SupplyPart
from amphora.environments.bridge.paths import text_at, value_at


def offered(client: Client, sheet: BridgeSheet) -> Iterator[Supply]:
    """Everything that is never packed, and mapped instead, each once: some stand only in what uses them.
    EnvironmentRefused for a row without id or name."""
    seen: set[tuple[str, str]] = set()
    for part in sheet.supplies:
        ids = Ids(part.space, part.is_number)
        # Told apart where there are several: nobody is to give a group the place of a person.
        is_one = len({other.space for other in sheet.supplies if other.kind == part.kind}) == 1
        for row in _rows(client, part):
            native_id = opened_id(text_at(row, part.paths["id"]), ids)
            if (part.kind, native_id) in seen:
                continue
            seen.add((part.kind, native_id))
            yield Supply(
                part.kind,
                native_id,
                text_at(row, part.paths["name"]),
                text_at(row, part.paths.get("type")) or ("" if is_one else part.space),
                text_at(row, part.paths.get("owner")),
                bool(value_at(row, part.paths["works"])) if "works" in part.paths else None,
            )


def _rows(client: Client, part: SupplyPart) -> Iterator[Json]:
    for row in client.rows(part.index):
        shown = client.with_id(row, part.paths)
        for needed in ("id", "name"):
            # Mapped to nothing, or under no name, it would leave a broken item behind.
            if not text_at(shown, part.paths[needed]):
                raise client.otherwise(part.index, f"there is no {needed} at {part.paths[needed]}")
        yield shown
