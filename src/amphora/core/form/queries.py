"""Which tables a query in SQL reads, as far as that can be told without knowing whose dialect it is.

Not parsed, but scanned: there are dozens of dialects, and templates inside of queries. What can't be told is left
out, so that nobody is warned of a table that no query reads (ISO/IEC 9075-2, sections 5.2 and 7.6, for the rest).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_TOKENS = re.compile(
    r"""
    --[^\n]* | /\*.*?\*/ | \{\#.*?\#\}              # comments, also those of templates
  | (?P<text>'(?:[^']|'')*')
  | (?P<made>\{\{.*?\}\} | \{%.*?%\})               # what a template makes of it nobody knows
  | "(?P<double>(?:[^"]|"")+)" | `(?P<back>[^`]+)` | \[(?P<square>[^\]]+)\]
  | (?P<word>[^\W\d][\w$]*)
  | (?P<other>[^\s])
    """,
    re.VERBOSE | re.DOTALL,
)
_FUNCTIONS = frozenset({"extract", "substring", "substr", "trim", "overlay", "position"})
"""These have a FROM of their own inside their brackets."""
_BEFORE = frozenset({"only", "lateral"})
_AFTER = frozenset(
    "where join on using inner left right full cross natural group order having union except intersect limit offset"
    " fetch window for tablesample pivot unpivot qualify set values returning straight_join".split()
)
"""What can stand behind a table without being another name for it."""

Name = tuple[str, ...]


def tables_in(query: str) -> list[Name]:
    """The tables behind FROM and JOIN, in pieces (`("main", "deliveries")`), each once, in order; without what the
    query itself names in WITH.

    >>> tables_in("with a as (select 1) select * from a, mill.days d join \\"Press log\\" on true")
    [('mill', 'days'), ('Press log',)]
    """
    tokens = list(_tokens(query))
    own = _own_names(tokens)
    found: list[Name] = []
    brackets: list[bool] = []
    for position, (kind, text) in enumerate(tokens):
        before = tokens[position - 1] if position else ("", "")
        if (kind, text) == ("other", "("):
            brackets.append(before[0] == "word" and before[1].lower() in _FUNCTIONS)
        elif (kind, text) == ("other", ")") and brackets:
            brackets.pop()
        elif kind == "word" and text.lower() == "join":
            found += _listed(tokens, position + 1, is_one=True)
        # `is distinct from` compares, and reads nothing.
        elif kind == "word" and text.lower() == "from" and before != ("word", "distinct"):
            found += [] if brackets and brackets[-1] else _listed(tokens, position + 1)
    return list(dict.fromkeys(name for name in found if len(name) > 1 or name[0].lower() not in own))


def _tokens(query: str) -> Sequence[tuple[str, str]]:
    names = {"double": "name", "back": "name", "square": "name"}
    found = []
    for one in _TOKENS.finditer(query):
        kind = one.lastgroup or ""
        if kind:
            text = one[kind].replace('""', '"') if kind == "double" else one[kind]
            found.append((names.get(kind, kind), text.lower() if text.lower() == "distinct" else text))
    return found


def _own_names(tokens: Sequence[tuple[str, str]]) -> set[str]:
    """What stands before AS and a bracket, and the first one behind WITH, which may have columns in between."""
    words = [text.lower() if kind in ("word", "name", "other") else "" for kind, text in tokens]
    if "with" not in words:
        return set()
    own = {words[n] for n in range(len(words) - 2) if words[n + 1] == "as" and words[n + 2] in ("(", "materialized")}
    for n, word in enumerate(words[:-2]):
        if word == "with":
            own.add(words[n + 2] if words[n + 1] == "recursive" else words[n + 1])
        # Of several, those behind the first one may have columns too: `, days (a, b) as (`.
        if word == "," and words[n + 2] == "(" and ")" in words[n:]:
            end = words.index(")", n)
            own |= {words[n + 1]} if words[end + 1 : end + 3] == ["as", "("] else set()
    return own


def _listed(tokens: Sequence[tuple[str, str]], position: int, is_one: bool = False) -> list[Name]:
    """The tables of one list, up to what is none."""
    found: list[Name] = []
    while True:
        while position < len(tokens) and tokens[position][0] == "word" and tokens[position][1].lower() in _BEFORE:
            position += 1
        name, position = _name(tokens, position)
        # A bracket behind a name is a function's, one without a name holds another query: that is met by itself.
        if not name or tokens[position : position + 1] == [("other", "(")]:
            return found
        found.append(name)
        position = _behind_alias(tokens, position)
        if is_one or tokens[position : position + 1] != [("other", ",")]:
            return found
        position += 1


def _name(tokens: Sequence[tuple[str, str]], position: int) -> tuple[Name, int]:
    pieces: list[str] = []
    while position < len(tokens) and tokens[position][0] in ("word", "name"):
        pieces.append(tokens[position][1])
        position += 1
        if tokens[position : position + 1] != [("other", ".")]:
            return tuple(pieces), position
        position += 1
    # A template stands where a piece would: the whole name is unknown.
    return (), position


def _behind_alias(tokens: Sequence[tuple[str, str]], position: int) -> int:
    if tokens[position : position + 1] and tokens[position][1].lower() == "as":
        return position + 2
    is_alias = position < len(tokens) and tokens[position][0] in ("word", "name")
    return position + 1 if is_alias and tokens[position][1].lower() not in _AFTER else position
