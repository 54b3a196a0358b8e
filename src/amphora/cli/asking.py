"""Questions at a terminal."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import typer

from amphora.cli.working import Work

if TYPE_CHECKING:
    from amphora.core.crosswalk import Mapped


def asker(work: Work) -> Callable[[Mapped], str | None]:
    """Asks about one need: its value, the guess for an empty answer, nothing for a dash."""
    from amphora.core.crosswalk import MapState
    from amphora.core.errors import NotReady
    from amphora.render.mapping import offered

    if not work.is_terminal:
        raise NotReady(
            "Nobody is here to ask; nothing was written.",
            next_step="Leave --ask out, and answer with --accept and --set.",
        )

    def ask(mapped: Mapped) -> str | None:
        work.tell(offered(mapped))
        guess = str(mapped.value) if mapped.state is MapState.GUESSED else ""
        hint = "Enter takes the guess, - leaves it open" if guess else "- leaves it open"
        answer = str(typer.prompt(f"Its value there ({hint})", default=guess or "-", show_default=False, err=True))
        return None if answer.strip() in ("-", "") else answer.strip()

    return ask
