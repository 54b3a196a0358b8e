"""Native ids as they are called everywhere, and as platforms write them: alone, inside of something longer, in texts.

Chart 12 is `chart~12` where charts are counted by themselves, and card 3 of board 7 `card~7~3` where cards are
counted on each board.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import cache
from urllib.parse import quote, unquote

from amphora.core.form.bindings import IdStyle
from amphora.core.form.kinds import Ids
from amphora.core.form.places import PART, REST

HOLDER = "{holder}"
"""Where the id of what holds an item stands in the form of a reference to it."""

MARK = "~"
"""Between the space and the id: in nobody's ids, and not in what people write."""

LETTERS = r"[A-Za-z0-9_.-]+?"
"""What an id is made of, most often."""

OPENED = r"(?:[A-Za-z0-9_.-]|%[0-9A-F]{2})+?"
"""What an opened id is made of, behind its space: of a path or an address what isn't in `LETTERS` is encoded
(RFC 3986), so that one can be told from the text around it."""

_ONE = r"(?:[A-Za-z0-9_-]|%[0-9A-F]{2})+"
NAME = rf"{_ONE}(?:\.{_ONE})*"
"""The same in a text, where a dot may end the sentence."""
NUMBER = re.compile(r"0|[1-9][0-9]{0,18}")
UID = "[A-Za-z0-9_-]+"
"""What a uid is made of in a text."""

IdsOf = Mapping[str, Ids]
"""How the ids of each kind look that can be referred to: kinds of items, and of what is supplied."""


def in_space(kind: str, space: str) -> str:
    """How `IdsOf` names one of several spaces in which things of a kind are counted."""
    return f"{kind}/{space}" if space else kind


def opened_id(native: str | int, ids: Ids) -> str:
    """An id of a kind, as it is called everywhere."""
    return f"{ids.space}{MARK}{_by_pieces(_encoded, str(native), ids)}" if ids.space else str(native)


def closed_id(text: str, ids: Ids) -> str | int:
    """The inverse of `opened_id`."""
    space, mark, rest = text.partition(MARK)
    return _typed(_by_pieces(unquote, rest, ids) if mark and space == ids.space else text, ids)


def _by_pieces(change: Callable[[str], str], native: str, ids: Ids) -> str:
    # What holds the item and its own id stand side by side.
    return MARK.join(map(change, native.split(MARK))) if ids.within else change(native)


def _encoded(text: str) -> str:
    return quote(text, safe="").replace(MARK, "%7E")


def plain_id(native: str | int, ids: Ids) -> str | int:
    """A closed id as the platform writes it: alone, where it is called by what holds the item as well."""
    return _typed(str(native).rpartition(MARK)[2] if ids.within else str(native), ids)


def _typed(plain: str, ids: Ids) -> str | int:
    return int(plain) if ids.is_number and NUMBER.fullmatch(plain) else plain


def is_counted(native_id: str) -> bool:
    """Whether an id looks like a number in a row of them, which each instance counts for itself: the same one says
    nothing of two items there. What is longer was drawn."""
    return re.fullmatch("[0-9]{1,10}", native_id.rpartition(MARK)[2]) is not None


def held_id(native: str | int, holder: str | int) -> str:
    """A closed id that is unique only in what holds the item: called by both."""
    return f"{str(holder).rpartition(MARK)[2]}{MARK}{native}"


def written(ids: Ids) -> str:
    """What an id of a kind looks like where it is written."""
    return "[0-9]+" if ids.is_number else ".+?"


def is_plain(text: str) -> bool:
    """Whether a text looks like most ids do: nothing else in a text would."""
    return re.fullmatch(LETTERS, text) is not None


def id_pattern(ids: IdsOf) -> str:
    """What an opened id looks like inside a text; matches nothing where no kind has a space of its own."""
    forms = {
        f"{re.escape(one.space)}{MARK}{f'{NAME}{MARK}' if one.within else ''}{'[0-9]+' if one.is_number else NAME}"
        for one in ids.values()
        if one.space
    }
    return f"(?:{'|'.join(sorted(forms))})" if forms else r"(?!)"


def style_of(ids: IdsOf) -> IdStyle:
    """How ids look that a platform has by itself: of all kinds, or only of those that are counted by themselves."""
    return IdStyle(id_pattern(ids), "", MARK if any(one.space for one in ids.values()) else "", has_words=True)


_UNQUOTED = r"[^'\"(){}]*?"
"""What may stand for `{text}` in a mention: nothing that would end what it stands in."""


@cache
def around(form: str, inside: str) -> re.Pattern[str]:
    """Matches an id that looks like `inside` with what stands around it, the id of what holds it among that; one
    blank in the form is any number of them."""
    left, right = (re.escape(part).replace(r"\ ", r"\s*") for part in form.split("{id}", 1))
    found = f"{left}(?P<id>{inside}){right}".replace(re.escape(HOLDER), f"(?P<holder>{LETTERS})", 1)
    # As little as will do: what stands between two pieces ends the first one.
    for name, more in ((PART, ".+?"), (REST, ".*?"), ("text", _UNQUOTED)):
        found = found.replace(re.escape(f"{{{name}}}"), f"(?P<{name}>{more})", 1)
    return re.compile(found)
