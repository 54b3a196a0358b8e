"""Texts of others in Markdown: they stay text, whatever is written in them."""

from __future__ import annotations

import re

from amphora.core.values.visible import visible

_SIGNS = re.compile(r"([\\`*_{}\[\]()#+!|~$])")


def md(text: str) -> str:
    """A text in which Markdown sees nothing: no image, link, mention, heading or HTML. The signs are escaped
    (CommonMark 0.31, section 2.4); what some dialects make a link of by itself is written as an entity (section
    2.5)."""
    text = visible(text).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    text = _SIGNS.sub(r"\\\1", text)
    return text.replace("@", "&#64;").replace("://", "&#58;//").replace("www.", "www&#46;")


def code(text: str) -> str:
    """The same as code: in backticks, more of them than stand in it together (section 6.1)."""
    text = visible(text).replace("|", "¦")
    # A longer run than any inside, or the code would end there.
    fence = "`" * (max((len(run) for run in re.findall("`+", text)), default=0) + 1)
    gap = " " if text.startswith("`") or text.endswith("`") else ""
    return f"{fence}{gap}{text}{gap}{fence}"
