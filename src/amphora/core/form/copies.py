"""Copies: a package taken in a second time, beside what is there, under names of its own.

A copy is called `PACKAGE~COPY` and is a package of its own to everything that follows: its items have keys of their
own, its claims, deliveries and undo are apart, and it is updated by whoever asks for it by the same name.
"""

from __future__ import annotations

import re
from dataclasses import replace

from amphora.core.form.new_keys import with_keys
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, decode_segment, encode_segment
from amphora.core.values.model import Contents, States
from amphora.core.values.next_step import advice

MARK = "~"
_NAMED = re.compile(r"([^~/]+)~([^~/]*?)(-[0-9]+\.[0-9]+\.[0-9]+[^~/]*)?")
_COPY = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,39}")
_WORD = re.compile(r"[a-z0-9][A-Za-z0-9]*(?:[-_.][A-Za-z0-9]+)*|[A-Z0-9]+(?:[-_.][A-Z0-9]+)+")


def taken_apart(name: str) -> tuple[str, str]:
    """The package that a name means, and the copy of it; an empty one where the name is that of a package.

    >>> taken_apart("lists~north-1.0.0"), taken_apart("lists-1.0.0")
    (('lists-1.0.0', 'north'), ('lists-1.0.0', ''))
    """
    found = _NAMED.fullmatch(name)
    return (found[1] + (found[3] or ""), found[2]) if found else (name, "")


def copied(contents: Contents, copy: str) -> Contents:
    """The contents as a copy: new keys and titles, no ids and links of the source. References inside lead to the
    copies, those to the outside stay. UsageFault where the copy's name can't be one."""
    if not _COPY.fullmatch(copy):
        raise UsageFault(
            f"{copy!r} can't be the name of a copy.",
            subject=copy,
            next_step=advice("Use letters, digits, dashes and underscores, beginning with a letter."),
        )
    if MARK in contents.name:
        raise UsageFault(
            f"{contents.name} is a copy already.",
            subject=contents.name,
            next_step=advice("Take another copy of the package itself."),
        )
    keys = {key: _key(key, _mark(item.states.title, copy)) for key, item in contents.items.items()}
    found = with_keys(contents, lambda key: keys.get(key, key))

    def named(states: States) -> States:
        return replace(states, title=f"{states.title}{_mark(states.title, copy)}")

    # Without the ids of the source: back at home, or where ids are kept, the copy would be taken for the original.
    items = {
        key: replace(item, states=named(item.states), native_id="", link="") for key, item in found.items.items()
    }
    return replace(found, items=items, bases={}, name=f"{contents.name}{MARK}{copy}")


def as_named(contents: Contents, name: str) -> Contents:
    """The contents as the package, or the copy, of this name."""
    base, copy = taken_apart(name)
    return copied(contents, copy) if copy and contents.name == base else contents


def _key(key: Key, mark: str) -> Key:
    # As it would be met in an environment by somebody who knows nothing of copies: by its name.
    head, slash, last = key.rpartition("/")
    kind, colon, last = ("", "", last) if slash else key.partition(":")
    return f"{head}{slash}{kind}{colon}{encode_segment(f'{decode_segment(last)}{mark}')}"


def _mark(title: str, copy: str) -> str:
    """What stands behind the names of copies. Where an item is called by a word as programs use them, names seldom
    take blanks and brackets.

    >>> [_mark(title, "trial") for title in ("Weigh slip", "weigh-slip", "WEIGH_SLIP", "Growers", "weighSlip")]
    [' (trial)', '-trial', '_trial', ' (trial)', '-trial']
    """
    if not _WORD.fullmatch(title):
        return f" ({copy})"
    return f"_{copy}" if "_" in title and "-" not in title else f"-{copy}"
