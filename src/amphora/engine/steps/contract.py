"""What a step is done with, and what doing one is."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import field
from functools import cached_property
from typing import Protocol

from amphora.core.form.attachments import kept_apart
from amphora.core.plan.states import Habits, Image
from amphora.core.plan.steps import Drafts, Drawn, Step
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.raw import Raw
from amphora.environments.contract import Environment, KeepsFiles, Seen, Write


class Material(Protocol):
    """Where the definitions come from that the steps of a run write; `comes_back` where that is the target itself."""

    comes_back: bool

    def draw(self, step: Step, key: Key, now: Image | None) -> Drawn:
        """What a step writes for one item, over its present state. Changes nothing."""

    def rows(self, key: Key) -> Iterator[Json]:
        """The rows to fill a table with."""

    def file(self, name: str) -> Raw | None:
        """An attachment that definitions name, by its SHA-256; None where only the environment can have it."""

    def chosen_id(self, key: Key) -> str | None:
        """The id that a new item will have, where it is ours to choose."""

    def uses(self, key: Key) -> frozenset[Key]:
        """The items that a definition names: their ids have to be known before it can be drawn."""

    def learn(self, key: Key, native_id: str) -> None:
        """An item was made under this id: what refers to it can be written from now on."""


@dataclass
class Bench:
    """What the steps of one run work on. `now` is the state of every touched item as it was last seen."""

    environment: Environment
    habits: Habits
    material: Material
    now: dict[Key, Image | None] = field(default_factory=dict)

    @cached_property
    def files(self) -> KeepsFiles | None:
        """The environment as one that keeps attachments beside its definitions, if it is one."""
        return self.environment if isinstance(self.environment, KeepsFiles) else None

    def here(self, key: Key) -> Image:
        """The item's present state; EnvironmentRefused where it isn't there."""
        image = self.now.get(key)
        if image is None:
            raise EnvironmentRefused("It is not there (any more).", subject=key)
        return image

    def seen(self, key: Key) -> Seen:
        """The item as it was last seen, for calls that are refused if somebody changed it."""
        image = self.here(key)
        return Seen(image.native_id, image.revision)

    def write_of(self, key: Key, drawn: Drawn, token: str) -> Write:
        """One item's part of a write call. Attachments that it names are there before it is."""
        now = self.now.get(key)
        self._send_files(drawn)
        return Write(
            kind=drawn.kind,
            segments=drawn.segments,
            states=drawn.states,
            definition=drawn.definition,
            token=f"{token}/{key}",
            # The revision is the one last seen, by us: whatever somebody did in between makes the platform refuse
            # the call.
            native_id=now.native_id if now else self.material.chosen_id(key),
            revision=now.revision if now else None,
        )

    def _send_files(self, drawn: Drawn) -> None:
        named = kept_apart(drawn.definition, self.habits.sheets[drawn.kind]) if self.files else []
        # Asked first: nearly always an attachment is there from the version before.
        held = self.files.held_files(named) if self.files and named else {}
        for name in dict.fromkeys(named):
            if self.files and name not in held and (content := self.material.file(name)) is not None:
                self.files.keep_file(name, content)


Doing = Callable[[Step, Bench, Drafts, str], Mapping[Key, str]]
"""Does a step, in one call: step, bench, what it writes, token; gives the ids of what it made. Raises
EnvironmentRefused, RevisionMoved or Unavailable if nothing happened; anything else counts as uncertain."""
