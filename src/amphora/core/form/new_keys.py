"""New keys: contents in which items go by other keys, with every reference to them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from amphora.core.form.visit import with_texts
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Item, Json
from amphora.core.values.tokens import Token, rewritten, token_for


def with_keys(contents: Contents, renamed: Callable[[Key], Key]) -> Contents:
    """The contents with each key as `renamed` gives it: of items, in references (to items elsewhere, too), needs,
    rows, bases and notes."""

    def change(token: Token) -> str:
        return token_for(renamed(token.key), token.part)

    def form(value: Json) -> Json:
        return with_texts(value, lambda text: rewritten(text, change))

    def item(one: Item) -> Item:
        key = renamed(one.key)
        # Most items refer to none of those that are renamed: their forms stay folded as they are.
        if all(renamed(token.key) == token.key for _, token in one.tokens):
            return one if key == one.key else replace(one, key=key)
        return replace(one, key=key, _form=form(one.form))

    needs = tuple(
        replace(need, key=renamed(need.key), used_by=tuple(renamed(key) for key in need.used_by))
        for need in contents.needs
    )
    return replace(
        contents,
        items={one.key: one for one in map(item, contents.items.values())},
        needs=needs,
        records={renamed(key): raw for key, raw in contents.records.items()},
        bases={renamed(key): (form(value), states) for key, (value, states) in contents.bases.items()},
        notes={renamed(key): text for key, text in contents.notes.items()},
    )
