"""The commands that ask for what a docket holds once more, as it was asked for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from amphora.core.plan.docket import Docket
from amphora.core.values.next_step import NextStep, to_type

COMPARED = frozenset(
    "--with --without --copy --title --folder --leave --bring --same --replace --pause-after".split()
)
"""The options of an import that `compare` takes, too."""


def to_compare(docket: Docket, *more: str) -> NextStep:
    """The command that shows an import as it was asked for, with `more` said."""
    words = [words for words in docket.words if words[0] in COMPARED]
    return to_type("compare", docket.name, docket.target, *_said(docket, words), *more)


def to_import(docket: Docket, *more: str, targets: Sequence[str] = (), but: str = "") -> NextStep:
    """The command that asks for an import as it was asked for, into other `targets` if any are named, with `more`
    said, and without an option that `more` says anew. A run that is under way is resumed: what it brings was decided
    when it began."""
    if docket.file:
        # It goes on being named, and holds what somebody decided.
        words = [words for words in docket.words if words[0] not in COMPARED]
        return to_type("import", docket.file, *_said(docket, words), *more)
    said = _said(docket, (words for words in docket.words if words[0] != but))
    if docket.run:
        return to_type("resume", docket.run, *said)
    if docket.since:
        # Only a docket can hold what it was compared with.
        return to_compare(docket, "--since", docket.since, "--docket", docket.usual_file)
    return to_type("import", docket.name, *(targets or [docket.target]), *said, *more)


def to_withdraw(docket: Docket, *more: str) -> NextStep:
    """The command that asks for a withdrawal as it was asked for, with `more` said."""
    return to_type("withdraw", docket.package, docket.target, *_said(docket, docket.words), *more)


def to_ask_again(docket: Docket) -> NextStep:
    """How to ask for the same once more."""
    return to_import(docket, "--yes") if docket.actions else to_withdraw(docket)


def _said(docket: Docket, some: Iterable[tuple[str, ...]]) -> list[str]:
    # A copy has a name of its own in the workspace; one of what lies elsewhere has not.
    return [word for words in some for word in words if docket.source_file or words[0] != "--copy"]
