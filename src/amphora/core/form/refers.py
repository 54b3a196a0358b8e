"""What may stand at a place of a definition that refers to something."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from amphora.core.values.late import dataclass


@dataclass(frozen=True, slots=True)
class Refer:
    """A reference position: the kinds it may name (`table`, `table#column`), and how strictly. Beside a
    connection, `thing` says what is used on its other end (see `core.form.objects`). `form` holds `{id}` where the id
    stands inside a longer text; `by` says what is written: its "id", its
    "title", or the "uid" that it has beside its id. Where
    `leaves_dead` an id that leads to nothing in the source is left out: nobody misses it there either. `space` says
    which ids these are, where things of one kind (people and groups) are counted apart. With `empties_holder` it is
    the object around the id that is empty while what it names isn't there. Of what is written in several ways at one
    place `ways` are all of them, and the rest is what holds for each."""

    to: tuple[str, ...]
    is_required: bool = False
    is_known_only: bool = False
    thing: str = ""
    thing_parts: str = ""
    thing_unless: str = ""
    thing_query: str = ""
    form: str = ""
    by: str = "id"
    leaves_dead: bool = False
    space: str = ""
    empties_holder: bool = False
    ways: tuple[Refer, ...] = ()

    def may_name(self, kind: str) -> bool:
        """Whether an item or need of this kind may stand here."""
        return any(target.partition("#")[0] == kind for target in self.to)


def in_ways(refers: Sequence[Refer]) -> Refer:
    """What may stand at one place, written in one of several ways.

    >>> one, other = Refer(("flow",), leaves_dead=True), Refer(("flow", "app"), form="app-*", empties_holder=True)
    >>> both = in_ways([one, other])
    >>> both.to, both.form, both.leaves_dead, both.empties_holder, both.is_required, both.ways == (other, one)
    (('flow', 'app'), '', True, True, False, True)
    """
    # What tells an id from anything else, a form or a list, is tried before what takes whatever stands there.
    ways = sorted(refers, key=lambda one: (not one.form, one.by == "id"))
    # Nothing but a connection has another end.
    thing = next((one for one in refers if one.thing), refers[0])
    return replace(
        thing,
        to=tuple(dict.fromkeys(to for one in refers for to in one.to)),
        is_required=any(one.is_required for one in refers),
        is_known_only=any(one.is_known_only for one in refers),
        form="",
        space="",
        leaves_dead=any(one.leaves_dead for one in refers),
        empties_holder=any(one.empties_holder for one in refers),
        ways=tuple(ways),
    )
