"""Rules on needs: what the target has to supply."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.checks.context import CheckContext
from amphora.core.crosswalk import MapState, row_name
from amphora.core.model import Finding, Level


def need_open(context: CheckContext) -> Iterable[Finding]:
    """A connection, setting, person or address has no accepted counterpart in the target."""
    if context.target is None:
        return
    for mapped in context.target.mapped:
        if mapped.state is MapState.MAPPED or mapped.need.kind == "secret":
            continue
        guess = f" (perhaps {mapped.value!r}: {mapped.reason})" if mapped.state is MapState.GUESSED else ""
        why = f": {mapped.reason}" if mapped.state is MapState.OPEN and mapped.reason else ""
        yield context.finding(
            "need-open",
            Level.WARNING,
            f"{mapped.need.kind} {row_name(mapped.need.key)!r} is not mapped{guess}{why}.",
            item=mapped.need.used_by[0] if mapped.need.used_by else "",
            next_step=f"amphora map {context.contents.name} {context.target.name}",
        )


def secret_to_enter(context: CheckContext) -> Iterable[Finding]:
    """A secret never travels; it has to be in the target already, or be entered there."""
    for need in context.contents.needs:
        mapped = {m.need.key: m for m in context.target.mapped} if context.target else {}
        cell = mapped.get(need.key)
        if need.kind == "secret" and not (cell and cell.state is MapState.MAPPED):
            yield context.finding(
                "secret-to-enter",
                Level.NOTE,
                f"Secret {row_name(need.key)!r} does not travel: updates keep the target's, a new item needs it.",
                item=need.used_by[0] if need.used_by else "",
            )
