"""Comparisons for people elsewhere: as Markdown, as one self-contained page."""

from __future__ import annotations

from amphora.core.form.bindings import MISSING
from amphora.core.plan.docket import Action, Do, Docket
from amphora.core.values.keys import readable
from amphora.core.values.model import Json
from amphora.core.values.visible import visible
from amphora.engine.verdicts import at_stake
from amphora.render.beside import differing, is_long, line_rows
from amphora.render.changes import by_words, place_phrase
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
            f"- {code(readable(gone.key))} is no longer packed: {gone.fate.value} ({gone.present.rows or 0} rows)"
        )
    return "\n".join(lines).rstrip() + "\n"


def comparison_page(docket: Docket, only: str = "", made_at: str = "") -> str:
    """A comparison as one HTML page that needs nothing else, to hand to whoever approves."""
    from importlib.resources import files

    from jinja2 import Environment, StrictUndefined

    source = (files("amphora.render") / "comparison.html").read_text(encoding="utf-8")
    page = Environment(
        autoescape=True, finalize=_shown, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    items = [
        {
            "key": readable(d.key),
            "title": d.title,
            "do": d.do,
            "reason": d.reason,
            "changes": [
                {
                    "where": place_phrase(c.place),
                    "sides": [_whole(v) for v in (c.last_delivered, c.target, c.package)],
                    "by": by_words(c.by),
                    "is_open": c.is_open,
                    "lines": line_rows(c.target, c.package) if is_long(c.target) and is_long(c.package) else [],
                }
                for c in d.changes
            ],
        }
        for d in differing(docket, only)
    ]
    return page.from_string(source).render(
        docket=docket,
        verdict=at_stake(docket),
        items=items,
        left=[
            readable(a.key)
            for a in docket.actions
            if a.do is Do.LEAVE and not (a.comparison and a.comparison.changes)
        ],
        gone=[
            {
                "key": readable(r.key),
                "title": r.present.states.title,
                "rows": r.present.rows or 0,
                "fate": r.fate.value,
            }
            for r in docket.retirements
        ],
        made_at=made_at,
    )


def _shown(value: object) -> object:
    """What a page shows: texts without what moves or turns anything; HTML is escaped after this."""
    return visible(value) if type(value) is str else value


def _whole(value: Json) -> str:
    return "" if value is MISSING else shown(value, 400)


def _is_untouched(action: Action) -> bool:
    return action.do is Do.LEAVE and not (action.comparison and action.comparison.changes)
