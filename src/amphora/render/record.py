"""One run as a page of its own, for the record of a change."""

from __future__ import annotations

from amphora.core.merge.phrase import place_phrase
from amphora.core.values.keys import readable
from amphora.engine.record import Record
from amphora.render.history import STATE_TONE, choice_words, closed, facts, proof_words, verdict, whole_side
from amphora.render.page import page
from amphora.render.record_figures import kinds_figure, legs_figure


def record_page(record: Record, made_at: str) -> str:
    """One self-contained HTML page, with two figures in it."""
    from markupsafe import Markup

    return page(
        "record",
        {
            "run": record.run,
            "verdict": verdict(record),
            "tone": "warn" if record.told.still else STATE_TONE.get(record.told.state, "plain"),
            "facts": facts(record),
            # Drawn by us from titles that the drawing library escapes (XML 1.0): markup, and no text.
            "legs": Markup(legs_figure(record)),
            "kinds": Markup(kinds_figure(record)),
            "lines": record.lines,
            "touched": [
                {
                    "key": readable(line.key),
                    "do": line.do,
                    "title": line.title,
                    "was": line.was,
                    "reason": line.reason,
                    "old": line.old_link,
                    "new": record.links.get(line.key, ""),
                    "changes": [
                        {
                            "where": place_phrase(c.place),
                            "sides": [whole_side(one, record) for one in c.sides],
                            "by": c.by,
                            "choice": choice_words(c, record),
                        }
                        for c in line.changes
                    ],
                }
                for line in record.touched
            ],
            "same": len(record.lines) - len(record.touched),
            "gone": [
                {"key": readable(key), "fate": fate, "title": title, "rows": rows}
                for key, fate, title, rows in record.gone
            ],
            "findings": [
                {"level": level, "item": readable(item) if item else "", "words": words}
                for level, _, item, words in record.findings
            ],
            "care": [
                {
                    "number": one.number,
                    "words": one.task.words,
                    "link": one.task.link,
                    "state": one.state,
                    "closed": closed(one),
                }
                for one in record.care
            ],
            "proofs": [
                {
                    "at": one.at,
                    "account": one.account,
                    "items": one.items,
                    "wrong": one.wrong,
                    "words": proof_words(one.wrong),
                }
                for one in record.proofs
            ],
            "made_at": made_at,
        },
    )
