"""Deciding: the open questions of a docket, walked through one by one, forwards and back."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from amphora.core.merge.merge import LAST_DELIVERED, PACKAGE, TARGET, FieldChange
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json


@dataclass(frozen=True)
class Question:
    """One field on which somebody has to decide."""

    key: Key
    title: str
    change: FieldChange


@dataclass(frozen=True)
class Answer:
    """A choice; `is_for_all` gives it to all that is still open. `go_back` and `quit` answer nothing."""

    choice: Json = None
    is_for_all: bool = False
    go_back: bool = False
    quit: bool = False


ANSWERS: Mapping[str, Answer] = {
    "p": Answer(PACKAGE),
    "t": Answer(TARGET),
    "l": Answer(LAST_DELIVERED),
    "P": Answer(PACKAGE, is_for_all=True),
    "T": Answer(TARGET, is_for_all=True),
    "L": Answer(LAST_DELIVERED, is_for_all=True),
    "b": Answer(go_back=True),
    "q": Answer(quit=True),
}
"""What each key means; a capital answers all that is still open alike."""

Asker = Callable[[Question, int, int], Answer]
"""Asks a person: the question, its number, how many there are."""


def questions_of(docket: Docket) -> list[Question]:
    """Every open question of a docket, in order."""
    return [
        Question(action.key, action.item.states.title, change)
        for action in docket.undecided
        for change in (action.comparison.open if action.comparison else ())
    ]


def decide_all(questions: Sequence[Question], ask: Asker) -> dict[Key, dict[str, Json]]:
    """The choices made, by item and place. Quitting keeps what was decided until then."""
    chosen: dict[int, Json] = {}
    position = 0
    while position < len(questions):
        answer = ask(questions[position], position + 1, len(questions))
        if answer.quit:
            break
        if answer.go_back:
            position = max(0, position - 1)
            chosen.pop(position, None)
            continue
        last = len(questions) if answer.is_for_all else position + 1
        chosen |= dict.fromkeys(range(position, last), answer.choice)
        position = last
    result: dict[Key, dict[str, Json]] = {}
    for number, choice in chosen.items():
        result.setdefault(questions[number].key, {})[questions[number].change.place] = choice
    return result
