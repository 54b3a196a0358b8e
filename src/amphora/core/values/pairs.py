"""What is said as two words with a sign of equality between them."""

from __future__ import annotations

import re

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice

_LINK = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)


def pair_of(text: str, form: str, example: str, is_whole: bool = False) -> tuple[str, str]:
    """The two sides; UsageFault where there is only one, or one is empty and neither may be (`is_whole`), with the
    `form` that was wanted and an `example`.

    >>> pair_of("a=b=c", "ITEM=TITLE", "")
    ('a', 'b=c')
    >>> pair_of("https://mill.example/open?id=4=Weigh slip", "ITEM=TITLE", "")
    ('https://mill.example/open?id=4', 'Weigh slip')
    """
    before, equals, after = apart(text)
    if not equals or (is_whole and not (before.strip() and after.strip())):
        raise UsageFault(f"{text!r} is not {form}.", subject=text, next_step=advice(f"Write it like {example}"))
    return before, after.strip()


def apart(text: str) -> tuple[str, str, str]:
    """The two sides and the sign between them, as `str.partition` gives them."""
    # At the first one: titles may hold the sign, keys never do; but a pasted link may.
    return text.rpartition("=") if _LINK.match(text) and text.count("=") > 1 else text.partition("=")
