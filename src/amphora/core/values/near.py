"""Near misses: what somebody may have meant who typed a name that is not there."""

from __future__ import annotations

import re
from collections.abc import Iterable
from heapq import nlargest
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

    wanted, least = name.casefold(), alike
    found: list[tuple[float, str]] = []
    matcher = SequenceMatcher()
    for one in dict.fromkeys(known):
        # Whoever says a part of a name may mean it, however much longer that is.
        is_part = len(wanted) >= SHORTEST and wanted in one.casefold()
        start = _shared_parts(wanted, one.casefold())
        matcher.set_seqs(one.casefold()[start:], wanted[start:])
        # From the cheapest bound to the real thing, and only what beats those found: a platform may hold thousands.
        bounds = (matcher.real_quick_ratio, matcher.quick_ratio, matcher.ratio)
        if (is_part and least <= alike) or all(bound() >= least for bound in bounds):
            how = max(matcher.ratio(), alike if is_part else 0.0)
            found = nlargest(most, [*found, (how, one)], key=itemgetter(0))
            least = max(alike, found[-1][0]) if len(found) == most else alike
    return [one for _, one in found]


def _shared_parts(one: str, other: str) -> int:
    """How long the parts are with which both names begin."""
    ends = [0]
    for end in _PART_END.finditer(one):
        if not other.startswith(one[: end.end()]):
            break
        ends.append(end.end())
    return ends[-1]
