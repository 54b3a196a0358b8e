"""Comparisons as Markdown."""

from __future__ import annotations

from amphora.core.merge.phrase import place_phrase
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import readable
from amphora.core.values.words import counted
from amphora.engine.verdicts import at_stake
from amphora.render.beside import differing
from amphora.render.changes import by_words
from amphora.render.markdown import code, md
from amphora.render.result import shown


def comparison_markdown(docket: Docket, only: str = "") -> str:
    """A comparison as Markdown, for a ticket or a merge request."""
    lines = [
        f"# {md(docket.title)} into {md(docket.target)}",
        "",
        f"**{md(at_stake(docket))}**",
        "",
    ]
    items = differing(docket, only)
    if items:
        lines += ["| | item | title | why |", "|---|---|---|---|"]
        lines += [f"| {d.do} | {code(readable(d.key))} | {md(d.title)} | {md(d.reason)} |" for d in items]
        lines.append("")
    for one in items:
        if one.changes:
            lines += [f"## {md(one.title)}", "", "| where | last delivered | target | package | changed by |"]
            lines.append("|---|---|---|---|---|")
            for c in one.changes:
                cells = [place_phrase(c.place), *(shown(v, 80) for v in (c.last_delivered, c.target, c.package))]
                lines.append("| " + " | ".join(map(md, [*cells, by_words(c.by)])) + " |")
            lines.append("")
    for gone in docket.retirements:
        lines.append(
            f"- {code(readable(gone.key))} is no longer packed: {gone.fate.value}"
            f" ({counted(gone.present.rows or 0, 'row')})"
        )
    return "\n".join(lines).rstrip() + "\n"
