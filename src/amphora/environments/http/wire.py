"""Values of the environment protocol as JSON and back: what both ends of the line agree on."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict
from typing import Any

from amphora.core.form.bindings import IdStyle
from amphora.core.form.kinds import parse_sheet
from amphora.core.plan.states import Image
from amphora.core.values.model import Found, Json, Limits, Listed, States, Supply
from amphora.environments.contract import (
    Capabilities,
    Description,
    Environment,
    HoldsRows,
    Identity,
    KeepsFiles,
    Probe,
    Probes,
    Publishes,
    RemembersTokens,
    Seen,
    Switches,
    TakesAlong,
    TellsMakers,
    Write,
    Written,
)

VERSION = "1.2"
"""Of the protocol: a newer minor version only adds."""

ABILITIES: Mapping[str, type] = {
    "publish": Publishes,
    "switch": Switches,
    "rows": HoldsRows,
    "files": KeepsFiles,
    "probe": Probes,
    "tokens": RemembersTokens,
    "makers": TellsMakers,
    "along": TakesAlong,
}
"""What not every environment can do, by the name under which it says so."""


def abilities_of(environment: Environment) -> list[str]:
    """What of that an environment can do."""
    # By their methods and not by a list: what is said can't differ from what is there.
    return [name for name, ability in ABILITIES.items() if isinstance(environment, ability)]


def description_json(found: Description, abilities: Iterable[str]) -> dict[str, Json]:
    """An environment in its own words."""
    return {
        "protocol": VERSION,
        "uid": found.uid,
        "release": found.release,
        "region": found.region,
        "base_url": found.base_url,
        "capabilities": asdict(found.capabilities),
        "abilities": list(abilities),
        "ids": asdict(found.id_style),
        # The text itself: both ends read it with the same reader, and a package keeps it as it was.
        "kinds": {kind: sheet.source for kind, sheet in found.sheets.items()},
        "features": sorted(found.features) if found.features is not None else None,
        "limits": {"items": dict(found.limits.items), "item_bytes": found.limits.item_bytes},
    }


def description_of(table: Mapping[str, Any]) -> Description:
    """The inverse; KeyError, TypeError or SheetFault where it is none. Kind sheets are read as strictly as any."""
    # A newer server may have capabilities that we have never heard of: they only add.
    can = {name: bool(value) for name, value in table["capabilities"].items() if name in Capabilities.__annotations__}
    ids = {name: str(value) for name, value in table["ids"].items() if name != "has_words"}
    return Description(
        str(table["uid"]),
        str(table["release"]),
        str(table["region"]),
        str(table["base_url"]),
        Capabilities(**can),
        IdStyle(**ids, has_words=table["ids"].get("has_words") is True),
        # Read as strictly as one of ours: a misspelt line in it would be a rule that nobody obeys.
        {kind: parse_sheet(source, kind) for kind, source in table["kinds"].items()},
        # None is an answer of its own: a server that can't tell must not look like one without any.
        None if table.get("features") is None else frozenset(map(str, table["features"])),
        Limits(dict(table["limits"]["items"]), table["limits"]["item_bytes"]),
    )


def listed_json(row: Listed) -> dict[str, Json]:
    """One row of an index."""
    return {
        "id": row.native_id,
        "kind": row.kind,
        "path": list(row.segments),
        "states": row.states.to_json(),
        "revision": row.revision,
        "link": row.link,
        "modified_at": row.modified_at,
        "modified_by": row.modified_by,
        "has_draft": row.has_draft,
        "is_drafted_only": row.is_drafted_only,
        "size_bytes": row.size_bytes,
        "rows": row.rows,
        "parts": list(row.parts),
    }


def listed_of(table: Mapping[str, Any]) -> Listed:
    """The inverse; ValueError where what has to be text is none: it would be found out by whoever sorts or looks it
    up, and look like a fault of ours."""
    return Listed(
        _text(table["id"]),
        _text(table["kind"]),
        tuple(map(_text, table["path"])),
        states_of(table["states"]),
        _text(table["revision"]),
        # Left out by servers that have no pages: everything else of an item works without.
        table.get("link", ""),
        table.get("modified_at"),
        table.get("modified_by"),
        bool(table.get("has_draft")),
        bool(table.get("is_drafted_only")),
        table.get("size_bytes"),
        table.get("rows"),
        tuple(table.get("parts", ())),
    )


def states_of(table: Mapping[str, Any]) -> States:
    """What stands beside a definition."""
    states = States.from_json(table)
    for text in (states.title, states.folder):
        _text(text)
    if not {states.is_on, states.is_published} <= {None, True, False}:
        raise ValueError("on and published have to be true or false")
    return states


def _text(value: Json) -> str:
    if not isinstance(value, str):
        raise ValueError("something has to be text, and is none")
    return value


def image_of(table: Mapping[str, Any]) -> Image:
    """One item's whole state; ValueError as for a row of an index."""
    image = Image.from_json(table)
    states_of(table["states"])
    for text in (image.native_id, image.kind, image.revision):
        _text(text)
    return image


def found_json(found: Found) -> dict[str, Json]:
    """An item with its definition."""
    return {**listed_json(found.listed), "definition": found.definition}


def found_of(table: Mapping[str, Any]) -> Found:
    """The inverse."""
    return Found(listed_of(table), table["definition"])


def supply_json(supply: Supply) -> dict[str, Json]:
    """Something on offer."""
    return {
        "kind": supply.kind,
        "id": supply.native_id,
        "name": supply.name,
        "type": supply.type,
        "owner": supply.owner,
        "is_working": supply.is_working,
    }


def supply_of(table: Mapping[str, Any]) -> Supply:
    """The inverse."""
    return Supply(
        _text(table["kind"]),
        _text(table["id"]),
        _text(table["name"]),
        table.get("type", ""),
        table.get("owner", ""),
        table.get("is_working"),
    )


def identity_json(identity: Identity) -> dict[str, Json]:
    """Who is signed in."""
    return {
        "account": identity.account,
        "role": identity.role,
        "permissions": sorted(identity.permissions),
        "roles": {role: sorted(may) for role, may in identity.roles.items()},
        "lacks": [{"permission": permission, "kind": kind} for permission, kind in sorted(identity.lacks)],
    }


def identity_of(table: Mapping[str, Any]) -> Identity:
    """The inverse."""
    # Servers without roles are common; without permissions nobody could be told what is lacking.
    roles = {role: frozenset(may) for role, may in table.get("roles", {}).items()}
    lacks = frozenset((row["permission"], row["kind"]) for row in table.get("lacks", ()))
    return Identity(table["account"], table["role"], frozenset(table["permissions"]), roles, lacks)


def write_json(write: Write) -> dict[str, Json]:
    """What is to be written; token and revision travel as headers."""
    return {
        "kind": write.kind,
        "path": list(write.segments),
        "states": write.states.to_json(),
        "definition": write.definition,
        # Not null: for a server that gives ids a null would be one more thing to misread.
        **({"id": write.native_id} if write.native_id is not None else {}),
    }


def write_of(table: Mapping[str, Any], token: str, native_id: str | None, revision: str | None) -> Write:
    """The inverse. ValueError where it is none: what isn't text would only be found out by the platform's storage."""
    states = states_of(table["states"])
    if not table["path"]:
        raise ValueError("the path has to have a name at least")
    for text in (table["kind"], *table["path"], native_id or ""):
        _text(text)
    return Write(table["kind"], tuple(table["path"]), states, table["definition"], token, native_id, revision)


def written_json(written: Written) -> dict[str, Json]:
    """What became of a write."""
    return {"id": written.native_id, "revision": written.revision, "link": written.link}


def written_of(table: Mapping[str, Any]) -> Written:
    """The inverse."""
    return Written(_text(table["id"]), _text(table["revision"]), _text(table.get("link", "")))


def probe_json(probe: Probe) -> dict[str, Json]:
    """What a look through a connection showed."""
    return {"is_working": probe.is_working, "missing": list(probe.missing), "reason": probe.reason}


def probe_of(table: Mapping[str, Any]) -> Probe:
    """The inverse."""
    return Probe(table.get("is_working"), tuple(table.get("missing", ())), table.get("reason", ""))


def seen_of(table: Mapping[str, Any]) -> Seen:
    """An item as somebody saw it; ValueError where it isn't told in texts."""
    return Seen(_text(table["id"]), _text(table["revision"]))


def lines_of(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """The lines in pieces that end anywhere (JSON Lines); empty ones are nothing."""
    rest = b""
    for piece in pieces:
        # A piece ends anywhere, also inside of a letter: only whole lines are decoded.
        *lines, rest = (rest + piece).split(b"\n")
        yield from filter(None, lines)
    # The last line may lack its end: not every server writes one (JSON Lines demands none).
    if rest:
        yield rest
