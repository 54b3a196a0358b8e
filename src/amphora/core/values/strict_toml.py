"""What is wrong with the members of a TOML table: said with the line, and the nearest name that is known."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from typing import Any

from amphora.core.values.near import near

FEW_NAMES = 8
"""So many are told to somebody who wrote something else altogether."""

FEW_HOMES = 3
"""What may stand in more tables than these (a path, a call) was rather misspelt."""

_WORDS = {
    dict: "a table",
    list: "a list",
    str: "text",
    bool: "true or false",
    int: "a whole number",
    float: "a number",
}


def unfit(
    table: Mapping[str, Any],
    known: Mapping[str, Any],
    before: str,
    source: str,
    what: str,
    homes: Mapping[str, Collection[str]] | None = None,
) -> Iterable[str]:
    """The members of a table of `what` that nobody knows, with the nearest name, or that are of another type than
    `known` says. `before` stands in front of each name; `homes` are the other tables, each with what it may hold."""
    for name, value in table.items():
        if name not in known:
            # A misspelt role is the dangerous kind of slip: `secrets` for `secret` would let every one of them
            # travel.
            hint = _hint(name, known, before, homes or {})
            yield f"{line_of(source, name, before)}`{before}{name}` is not known in {what}{hint}"
        # In Python True is an int; `schema = true` is a slip all the same.
        elif not isinstance(value, known[name]) or (known[name] is int and isinstance(value, bool)):
            kinds = known[name] if isinstance(known[name], tuple) else (known[name],)
            words = " or ".join(_WORDS[kind] for kind in kinds)
            yield f"{line_of(source, name, before)}`{before}{name}` has to be {words}"


def _hint(name: str, known: Collection[str], before: str, homes: Mapping[str, Collection[str]]) -> str:
    """What may have been meant: the right name in a wrong table is no slip of the pen."""
    at_home = [home for home, names in homes.items() if name in names]
    if 0 < len(at_home) <= FEW_HOMES and name not in before.split("."):
        return f"; it belongs in {' or '.join(at_home)}"
    if found := near(name, known):
        return f"; perhaps `{before}{found[0]}`"
    return f"; it knows {', '.join(sorted(known))}" if 0 < len(known) <= FEW_NAMES else ""


def line_of(source: str, name: str, within: str = "", value: str = "") -> str:
    """Where a name stands in a text, as the beginning of a sentence: the first time behind the header of the table
    that it is `within` (`item.flow.`), if there is such a header. Of a text in its `value`, which may go over several
    lines, it is the line of that."""
    start = 0
    # The nearest header that leads there: the table itself may be written inside of another one's line.
    parts = within.rstrip(".").split(".")
    for length in range(len(parts), 0, -1):
        header = re.search(rf"^[ \t]*\[+\s*{re.escape('.'.join(parts[:length]))}\s*\]", source, re.MULTILINE)
        if header and within:
            start = header.start()
            break
    word = rf"[\"']?{re.escape(name)}[\"']?"
    # No line break belongs to the beginning of a line: what stands behind empty lines would be told a line early.
    # A header of that name, if the name is in no table; else the beginning of a line, or within the line of a table.
    ways = [rf"^[ \t]*(?:\[+\s*)?(?:[\w.]+\.)?{word}\s*[=\].]"]
    ways = [*ways, rf"^[^#\n]*?[{{,]\s*{word}\s*="] if within else [rf"^[ \t]*\[\[\s*{word}\s*\]\]", *ways]
    found = next((one for way in ways if (one := re.compile(way, re.MULTILINE).search(source, start))), None)
    at = found.start() if found else -1
    if value:
        # With its quotes: one path is the beginning of another.
        quoted = (source.find(f"{quote}{value}{quote}", max(at, start)) for quote in "\"'")
        at = min((place for place in quoted if place >= 0), default=at)
    return f"line {source.count(chr(10), 0, at) + 1}: " if at >= 0 else ""


def row_of(source: str, table: str, number: int) -> str:
    """The text of one row of an array of tables (`[[refers]]`), with the tables inside of it; all other lines are
    blank, so that what is found in it stands on its line. The whole text where the rows are written otherwise."""
    lines = source.splitlines()
    heads = [n for n, line in enumerate(lines) if re.match(rf"\s*\[\[\s*{table}\s*\]\]", line)]
    if number >= len(heads):
        return source
    start = heads[number]
    others = (n for n, line in enumerate(lines) if n > start and re.match(rf"\s*\[(?!\[?\s*{table}\.)", line))
    end = next(others, len(lines))
    return "\n".join(line if start <= n < end else "" for n, line in enumerate(lines))
