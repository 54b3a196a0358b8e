"""What is said as two words with a sign of equality between them."""

from __future__ import annotations

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice


def pair_of(text: str, form: str, example: str, is_whole: bool = False) -> tuple[str, str]:
    """The two sides; UsageFault where there is only one, or one is empty and neither may be (`is_whole`), with the
    `form` that was wanted and an `example`.

    >>> pair_of("a=b=c", "ITEM=TITLE", "")
    ('a', 'b=c')
    """
    # At the first one: titles may hold the sign, keys never do.
    before, equals, after = text.partition("=")
    if not equals or (is_whole and not (before.strip() and after.strip())):
        raise UsageFault(f"{text!r} is not {form}.", subject=text, next_step=advice(f"Write it like {example}"))
    return before, after.strip()
