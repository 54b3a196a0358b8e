"""What definitions use on the other end of connections: tables of a database, topics, folders, and their parts."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from urllib.parse import unquote

from amphora.core.form.kinds import KindSheet
from amphora.core.form.places import values_at
from amphora.core.form.queries import tables_in
from amphora.core.form.refers import Refer
from amphora.core.form.spots import spotted
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.core.values.tokens import parse_token

PART_MARK = "\x1f"
"""Between an object and a part of it. A letter that nobody types: topics hold any other one."""

MOST_NAMED = 5

_PLACEHOLDER = re.compile(r"\{([A-Za-z_][A-Za-z0-9_]*)\}")


def objects_used(form: Json, sheet: KindSheet, title: str = "", has_queries: bool = True) -> list[tuple[str, str]]:
    """What a form uses there: (connection as it stands in the form, name). Names are those of objects, and of their
    parts behind `PART_MARK`; those that a query reads, as far as it can be read, are among them unless they are not
    asked for."""
    return [
        (value, name)
        for _, value, spot, held in spotted(form, sheet)
        if spot.refer and spot.refer.thing and isinstance(value, str) and value and isinstance(held, dict)
        for name in _names(spot.refer, held, title, has_queries)
    ]


def used_through(form: Json, sheet: KindSheet | None, title: str, has_queries: bool = True) -> dict[Key, set[str]]:
    """The same of a portable form, by connection."""
    found: dict[Key, set[str]] = {}
    for text, name in objects_used(form, sheet, title, has_queries) if sheet and sheet.has_objects else ():
        if token := parse_token(text):
            found.setdefault(token.key, set()).add(name)
    return found


def _names(refer: Refer, held: Mapping[str, Json], title: str, has_queries: bool) -> Iterator[str]:
    """The object beside a reference to a connection, and its parts; the objects that a query beside it reads."""
    for query in values_at(held, refer.thing_query) if refer.thing_query and has_queries else ():
        for *above, last in tables_in(query) if isinstance(query, str) else ():
            # Where the query doesn't say, the database looks where the item is.
            named = "/".join(map(_quoted, (*above[-1:], last)))
            yield named if above or "{" not in refer.thing else _name(refer.thing, {**held, "title": last}, last)
    if refer.thing_unless and any(values_at(held, refer.thing_unless)):
        return
    name = _name(refer.thing, held, title)
    if name:
        yield name
        parts = values_at(held, refer.thing_parts) if refer.thing_parts else ()
        yield from (f"{name}{PART_MARK}{part}" for part in parts if isinstance(part, str) and part)


def _name(thing: str, held: Mapping[str, Json], title: str) -> str:
    """`thing` is a member, or a text with members in braces; `{title}` is what the item is called. Pieces between
    slashes of which nothing is known are left out: a table may stand in no schema."""
    if "{" not in thing:
        return _text(held.get(thing))
    known = {"title": title, **held}
    # Quoted, for a name may hold what stands between two of them.
    pieces = [
        _PLACEHOLDER.sub(lambda found: _quoted(_text(known.get(found[1]))), piece) for piece in thing.split("/")
    ]
    # Without its own name, which comes last, the rest would be another object.
    return "/".join(filter(None, pieces)) if pieces[-1] else ""


def _quoted(text: str) -> str:
    return text.replace("%", "%25").replace("/", "%2F")


def _text(value: Json) -> str:
    # Only names in clear: one that is computed can't be asked about at the other end.
    return value if isinstance(value, str) else ""


def grouped(names: Iterable[str]) -> list[list[str]]:
    """Objects one by one, and the parts of one object together."""
    found: dict[str, list[str]] = {}
    for name in sorted(names):
        whole, mark, _ = name.partition(PART_MARK)
        found.setdefault(f"{whole}{mark}", []).append(name)
    return list(found.values())


def in_words(names: Sequence[str]) -> str:
    """An object, or parts of one, as people read it."""
    whole, mark, _ = names[0].partition(PART_MARK)
    if not mark:
        return repr(unquote(whole))
    parts = [repr(name.partition(PART_MARK)[2]) for name in names]
    more = f" and {len(parts) - MOST_NAMED} more" if len(parts) > MOST_NAMED else ""
    return f"{', '.join(parts[:MOST_NAMED])}{more} of {unquote(whole)!r}"
