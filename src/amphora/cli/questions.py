"""Questions at a terminal."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import typer

from amphora.cli.work import Work
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.next_step import advice, to_type

if TYPE_CHECKING:
    from amphora.core.needs.crosswalk import Mapped
    from amphora.core.plan.docket import Docket
    from amphora.core.plan.questions import Answer, Question


def asker(work: Work) -> Callable[[Mapped], str | None]:
    """Asks about one need: its value, the guess for an empty answer, nothing for a dash."""
    from amphora.core.needs.crosswalk import MapState
    from amphora.core.values.errors import NotReady
    from amphora.render.map import offered

    if not work.is_terminal:
        raise NotReady(
            "Nobody is here to ask; nothing was written.",
            next_step=advice("Leave --ask out, and answer with --accept and --set."),
        )

    def ask(mapped: Mapped) -> str | None:
        work.tell(offered(mapped))
        guess = str(mapped.value) if mapped.state is MapState.GUESSED else ""
        hint = "Enter takes the guess, - leaves it open" if guess else "- leaves it open"
        question = f"Its value there ({hint})"
        answer = str(typer.prompt(question, default=guess or "-", show_default=False, err=True))
        return None if answer.strip() in ("-", "") else answer.strip()

    return ask


def decider(work: Work, docket: Docket) -> Callable[[Question, int, int], Answer]:
    """Asks about one open question of a docket: one key to answer it."""
    from amphora.core.plan.questions import ANSWERS
    from amphora.core.values.errors import NotReady
    from amphora.core.values.keys import readable
    from amphora.render.result import shown

    if not work.is_terminal:
        name = f"{docket.package}-{docket.version}"
        raise NotReady(
            "Nobody is here to decide; nothing was touched.",
            details=[
                f"{readable(a.key)} at {c.place}" for a in docket.undecided if a.comparison for c in a.comparison.open
            ],
            next_step=to_type("compare", name, docket.target, "--docket", f"{name}.{docket.target}.docket.yaml"),
        )

    def ask(question: Question, number: int, count: int) -> Answer:
        change = question.change
        sides = (
            ("last delivered", change.last_delivered),
            (docket.target, change.target),
            (docket.title, change.package),
        )
        width = max(len(name) for name, _ in sides)
        work.tell(
            [
                "",
                f"{number} of {count}  {question.title} ({readable(question.key)}): {place_phrase(change.place)}",
                *(f"  {name.ljust(width)}  {shown(value, 90)}" for name, value in sides),
                "  p package, t target, l last delivered; P, T, L: all the rest alike; b back, q quit",
            ]
        )
        while True:
            key = str(typer.prompt("Which", err=True)).strip()
            if key in ANSWERS:
                return ANSWERS[key]
            work.tell(["One of p, t, l, P, T, L, b, q."])

    return ask
