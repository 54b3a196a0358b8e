"""Near misses: what somebody may have meant who typed a name that is not there."""

from __future__ import annotations

import re
from collections.abc import Iterable
from heapq import nlargest
from itertools import islice
from operator import itemgetter

_PART_END = re.compile(r"[-/:. ]")
SHORTEST = 3
"""So many letters have to be said of a longer name."""


def near(name: str, known: Iterable[str], most: int = 1, alike: float = 0.55) -> list[str]:
    """The names most like one that nobody knows, the nearest first; `alike` is how much of two names has to be the
    same, from 0 to 1. Small and capital letters are one, and parts that both begin with count for nothing: where
    every environment is called `grove-…`, none of them is near another one for that.

    >>> near("grove-tset", ["grove-live", "grove-test"]), near("grove-live", ["grove-test", "grove-dev"])
    (['grove-test'], [])
    >>> near("sout", ["grove-live", "grove-south"]), near("ro", ["grove-live", "grove-south"])
    (['grove-south'], [])
    """
    # Loaded where something is wrong, and nowhere else: every command starts without it.
    from difflib import SequenceMatcher

    known, wanted, least = dict.fromkeys(known), name.casefold(), alike
    found: list[tuple[float, str]] = []
    matcher = SequenceMatcher()
    for one in known:
        start = _shared_parts(wanted, one.casefold())
        matcher.set_seqs(one.casefold()[start:], wanted[start:])
        # From the cheapest bound to the real thing, and only what beats those found: a platform may hold thousands.
        if all(bound() >= least for bound in (matcher.real_quick_ratio, matcher.quick_ratio, matcher.ratio)):
            found = nlargest(most, [*found, (matcher.ratio(), one)], key=itemgetter(0))
            least = max(alike, found[-1][0]) if len(found) == most else alike
    # Whoever says a part of a name may mean it, however much longer that is.
    parts = (one for one in known if len(wanted) >= SHORTEST and wanted in one.casefold())
    return [one for _, one in found] or list(islice(parts, most))


def _shared_parts(one: str, other: str) -> int:
    """How long the parts are with which both names begin."""
    ends = [0]
    for end in _PART_END.finditer(one):
        if not other.startswith(one[: end.end()]):
            break
        ends.append(end.end())
    return ends[-1]
