"""Declared secrets in portable forms: a token stands at their places, and nowhere else."""

from __future__ import annotations

from collections.abc import Iterator

from amphora.core.form.kinds import KindSheet
from amphora.core.form.visit import visited
from amphora.core.values.model import Item
from amphora.core.values.pointers import parse_pointer, write_pointer
from amphora.core.values.tokens import PREFIX, parse_token

SECRET = PREFIX + "secret:"


def secret_faults(item: Item, sheet: KindSheet) -> Iterator[tuple[str, str]]:
    """What is wrong with a package's item as to declared secrets: (pointer, words). A secret's token stands only
    where the sheet says `secret`, or it would fetch the value from there to wherever it stands; and nothing else
    stands there, or a package would carry a secret in clear."""
    named = [place for place in item.places if place.token.startswith(SECRET)]
    # Nearly always: then nothing has to be parsed.
    if not named and not sheet.secrets:
        return
    form = item.form
    # Once for all of them: where a sheet searches for its places, each walk would search the whole form again.
    start = sheet.places.walk(form)
    for place in named:
        walk = start
        for step in parse_pointer(place.pointer):
            walk = walk.step(step)
        # Inside a text never, even at a declared place: a secret is a value, not a part of one.
        if place.in_text or not walk.spot.is_secret:
            yield place.pointer, "names a secret where the kind sheet knows of none"
    for here in visited(form, start, role="is_secret") if sheet.secrets else ():
        if here.walk.spot.is_secret and here.value not in (None, "", [], {}):
            token = parse_token(here.value)
            if token is None or token.kind != "secret":
                yield write_pointer(here.at), "holds a value in clear where the kind sheet says secret"
