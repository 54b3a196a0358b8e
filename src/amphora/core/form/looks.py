"""What only a look at a platform tells, where definitions are opened and closed: which name leads where."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any, Final

from amphora.core.form.places import PartOf
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json


def _nothing(*_asked: object) -> Mapping[str, Any]:
    return {}


@dataclass(frozen=True)
class Looks:
    """What only a look at the platform tells. `called` gives the opened ids of the items of a kind by their titles,
    or by their uids, without those of which several have one; `parts` the ids of an item's parts, as they are
    written, by their names; `ids` the opened ids of all items of a kind; `holder` the opened id of the item of a kind
    that has a part of this id, empty where none has; `address` is the platform's own, which forms of ids may begin
    with."""

    called: Callable[[str, str], Mapping[str, str]] = _nothing
    parts: Callable[[str, PartOf], Mapping[str, Json]] = _nothing
    address: str = ""
    ids: Callable[[str], Collection[str]] = lambda kind: ()
    holder: Callable[[str, PartOf, str], str] = lambda kind, part, id_: ""

    def here(self, form: str) -> str:
        """What stands around an id on this platform."""
        return form.replace("{address}", self.address)


BLIND: Final = Looks()
"""Where nobody looks: nothing is referred to by a name."""
