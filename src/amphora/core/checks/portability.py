"""Rules on portability: what must not or can't travel."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext
from amphora.core.model import Finding, Level
from amphora.core.secrets import detected_secrets


def secret_in_clear(context: CheckContext) -> Iterable[Finding]:
    """A value that looks like a secret stands in clear where none is declared."""
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        allowed = context.secrets_in_clear.get(key, ())
        if sheet is None:
            continue
        for place in detected_secrets(item.form, sheet.places.walk(item.form)):
            if place not in allowed:
                yield context.finding(
                    "secret-in-clear",
                    Level.ERROR,
                    f"{item.states.title!r} holds what looks like a secret in clear text.",
                    item=key,
                    place=place,
                    next_step="Keep it in a connection or a secret field in the source, or silence the finding"
                    " in amphora.toml with [[silenced]] rule, item, place and reason.",
                )
