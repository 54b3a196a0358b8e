"""What an environment promises, and what became of each promise when it was tried."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import field
from enum import StrEnum

from amphora.core.values.errors import AmphoraError, Busy, EnvironmentRefused
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.engine.session import Opened, Session
from amphora.environments.contract import ByDescription, Environment


class Kept(StrEnum):
    """Whether a promise is kept; odd: it is, and something is worth knowing."""

    HOLDS = "holds"
    FAILS = "fails"
    ODD = "odd"
    UNTOLD = "can't be told"


@dataclass(frozen=True)
class Promise:
    """One promise: of which kind of items, what was found, in words, and by which calls."""

    name: str
    kept: Kept
    kind: str = ""
    words: str = ""
    calls: tuple[str, ...] = ()


@dataclass
class Proving:
    """What is being tried, on which environment, and what it has left there."""

    session: Session
    opened: Opened
    mark: str
    promises: list[Promise] = field(default_factory=list)
    made: dict[str, str] = field(default_factory=dict)
    """What was made and not removed yet: title by native id."""
    may_write: bool = True
    asked: dict[str, Json] = field(default_factory=dict)
    """The definitions that were asked for, by native id."""

    holders: set[str] = field(default_factory=set)
    """The ids of what was made only to hold copies."""

    renumbered: set[str] = field(default_factory=set)
    """The kinds of which an item with another title has another id."""

    joints: dict[str, str] = field(default_factory=dict)
    """What joins the words of a title, by kind: many platforms take no blanks, some no hyphens."""

    unshared: dict[str, str] = field(default_factory=dict)
    """The member that no two items of a kind may have in common, by kind."""

    def titled(self, kind: str, words: str) -> str:
        """A title of the proof's own, in the manner of a kind."""
        # Like its neighbours: a title that is refused for its signs would say nothing of the promise.
        joint = self.joints.get(kind, " ")
        title = f"{self.mark} {words}".replace(" ", joint)
        return title if joint in " -" else title.replace("-", joint)

    def is_ours(self, title: str) -> bool:
        """Whether something is called as only the proof calls things."""
        # In the manner of some kinds its dashes are something else.
        return title.replace("_", "-").startswith(self.mark)

    @property
    def environment(self) -> Environment:
        return self.opened.environment

    def untried(self, kind: str) -> frozenset[str]:
        """The members of which a change says nothing: they go by calls of their own, or are never written."""
        told = self.environment
        return told.own_calls(kind) | told.unsent(kind) if isinstance(told, ByDescription) else frozenset()

    @contextmanager
    def trying(self, name: str, kind: str = "") -> Iterator[None]:
        """Whatever goes wrong inside is what became of the promise."""
        # What is tried may say more than one thing of itself, and then that counts.
        before = len(self.promises)
        try:
            yield
            if len(self.promises) == before:
                self.say(name, Kept.HOLDS, kind)
        except Broken as broken:
            self.say(name, Kept.FAILS, kind, str(broken))
        except Busy as error:
            # It says nothing of the sheet: an import looks what became of such a call, and makes it again.
            self.say(name, Kept.UNTOLD, kind, f"{error.message} It was busy just then: prove it again")
        except AmphoraError as error:
            place = f" ({error.place})" if error.place else ""
            self.say(name, Kept.FAILS, kind, f"{error.message}{place}")

    def say(self, name: str, kept: Kept, kind: str = "", words: str = "") -> None:
        """Notes what became of a promise, with the last calls where it is not kept."""
        # Whoever has to mend it wants the calls; of what is kept nobody does.
        calls = self._calls() if kept is Kept.FAILS else ()
        self.promises.append(Promise(name, kept, kind, words, calls))

    def _calls(self) -> tuple[str, ...]:
        client = getattr(self.environment, "client", None)
        return tuple(getattr(client, "last", ())) if client else ()


class Broken(Exception):
    """A promise that is not kept, in words."""


def expected(kind: type[AmphoraError], call: Callable[[], object], words: str, means: str = "") -> None:
    """Broken with these words unless a call is refused in this way. `means` is what a refusal of another kind may
    have to be called in a bridge sheet."""
    try:
        call()
    except kind:
        return
    except EnvironmentRefused as error:
        if not means:
            raise
        where = f" ({error.place})" if error.place else ""
        hint = f'If that is how it says so: an [[error]] with means = "{means}"'
        raise Broken(f"{error.message}{where} {hint}") from error
    raise Broken(words)
