"""How much a package may take: what is small when packed may be huge in memory, and nobody knows who made it.

The defaults take 100,000 items on an ordinary machine. They belong to the machine and not to a workspace, and so are
set by variables of the environment.
"""

from __future__ import annotations

import os

from amphora.core.values.digits import is_number
from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NextStep, advice


@dataclass(frozen=True)
class Bounds:
    """The most that is read: members of the archive; bytes of everything unpacked; bytes of all JSON together, which
    is in memory at once; bytes and values of one JSON member, which is parsed whole."""

    members: int = 500_000
    total_bytes: int = 8 << 30
    json_bytes: int = 1 << 30
    item_bytes: int = 64 << 20
    item_values: int = 2_000_000

    @staticmethod
    def here() -> Bounds:
        """The bounds of this machine; UsageFault for one that is no number."""
        return Bounds(*(_number(name, getattr(Bounds, field)) for field, name in VARIABLES.items()))

    def refuse(self, what: str, field: str, place: str = "") -> PackageDamaged:
        """The refusal of what is beyond one of the bounds."""
        return PackageDamaged(
            f"{what} ({getattr(self, field):,} {field.replace('_', ' ')} are the most).",
            place=place or None,
            next_step=advised(field),
        )


VARIABLES = {
    "members": "AMPHORA_MOST_MEMBERS",
    "total_bytes": "AMPHORA_MOST_BYTES",
    "json_bytes": "AMPHORA_MOST_JSON_BYTES",
    "item_bytes": "AMPHORA_MOST_ITEM_BYTES",
    "item_values": "AMPHORA_MOST_ITEM_VALUES",
}
"""The variables that set each bound."""

MOST_RATIO = 200
"""So many times what is packed may come out of it."""
RATIO_COUNTS_FROM = 2**26
"""From so many bytes on: small archives may be as regular as they like."""

ROW_BYTES = 4096
ROW_VALUES = 64
"""What each item may add to the packing list, which has a row for every one of them."""


def advised(field: str) -> NextStep:
    """What to do about an honest package that is larger."""
    return advice(f"If you trust whoever made it, allow more with {VARIABLES[field]}.")


def _number(name: str, usual: int) -> int:
    text = os.environ.get(name, "")
    if not text:
        return usual
    # Refused and not passed over: a bound that is misspelt would silently be the usual one.
    if not is_number(text):
        raise UsageFault(
            f"{name} is {text!r}, which is no number.", subject=name, next_step=advice("Set a whole number.")
        )
    return int(text)
