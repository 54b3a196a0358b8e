"""A session: one workspace with its ledger and crosswalk, and the environments opened so far."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable
from contextlib import nullcontext, suppress
from dataclasses import replace
from datetime import UTC, datetime
from functools import cached_property, lru_cache

from amphora.core.form.secrets import STRICT, Guard
from amphora.core.needs.crosswalk import Crosswalk
from amphora.core.values.errors import AmphoraError, NotReady, SheetFault
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice, blank, to_type
from amphora.environments.contract import Description, Environment
from amphora.environments.locations import open_environment, sign_in_secret
from amphora.files.crosswalk_file import read_crosswalk
from amphora.files.workspace import EnvironmentEntry, Workspace
from amphora.files.workspace_rules import ROLES
from amphora.ledger.ledger import Ledger
from amphora.ledger.records import Run

Listener = Callable[[str, int, int], None]
"""Told what goes on: words, how many are done, how many there are."""


def ledger_secret(workspace: Workspace) -> str:
    """The password for the ledger's server; empty where none is needed."""
    return sign_in_secret(EnvironmentEntry("The ledger", workspace.ledger_url, sign_in=workspace.ledger_sign_in))


def silent(what: str, done: int, total: int) -> None:
    """The listener that tells nobody."""


def utc_now() -> str:
    """The time as RFC 3339 has it, in UTC, to the second."""
    return _as_text(int(time.time()))


@lru_cache(1)
def _as_text(second: int) -> str:
    # Asked several times for each step of a run, and writing it out is what takes time.
    return datetime.fromtimestamp(second, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True)
class Opened:
    """An open environment with what the workspace says of it and what it says of itself."""

    entry: EnvironmentEntry
    environment: Environment
    description: Description
    guard: Guard = STRICT

    @property
    def name(self) -> str:
        return self.entry.name


class Session:
    """Opens things once and closes them together."""

    def __init__(self, workspace: Workspace, listener: Listener = silent) -> None:
        self.workspace = workspace
        self.listener = listener
        self._opened: dict[str, Opened] = {}

    @cached_property
    def ledger(self) -> Ledger:
        """The workspace's ledger."""
        return Ledger(self.workspace.ledger, utc_now, ledger_secret(self.workspace))

    @cached_property
    def crosswalk(self) -> Crosswalk:
        """The workspace's crosswalk as it stood when first asked for."""
        return read_crosswalk(self.workspace.crosswalk)

    def renew_crosswalk(self) -> None:
        """Reads the crosswalk again, after it was written."""
        # Assigned over the cached one: whoever asks next sees what was written.
        self.crosswalk = read_crosswalk(self.workspace.crosswalk)

    def open(self, name: str) -> Opened:
        """An environment of the workspace."""
        if name not in self._opened:
            entry = self.workspace.environment(name)
            environment = open_environment(entry, self.workspace.folder)
            try:
                self._opened[name] = self._described(entry, environment)
            except BaseException:
                environment.close()
                raise
        return self._opened[name]

    def placed(self, run: Run) -> Run:
        """A run with its environment under the name that this has now. NotReady where none here is the one that it
        was into: what a look at another one shows says nothing of it."""
        entries = self.workspace.environments
        # The name first; the others only where somebody has written another one into the workspace by hand.
        names = [name for name in (run.environment, *entries) if name in entries]
        for name in dict.fromkeys(names):
            with suppress(AmphoraError) if name != run.environment else nullcontext():
                if self.open(name).description.uid == run.uid:
                    return replace(run, environment=name)
        if run.environment not in entries:
            self.workspace.environment(run.environment)
        raise NotReady(
            f"{run.environment} is another environment by now, and none here is the one that {run.name} was into.",
            subject=run.name,
            next_step=to_type("env", "list"),
        )

    def namesake(self, opened: Opened) -> str:
        """Another environment of the workspace that was worked in under the same uid, somewhere else: a copy of this
        one, or what it was copied from. Empty where there is none."""
        if not self.workspace.has_ledger:
            return ""
        for name in self.ledger.names_of(opened.description.uid):
            other = self.workspace.environments.get(name)
            # At the same place it is this one, under another name or for another account.
            if other and name != opened.name and other.location != opened.entry.location:
                return name
        return ""

    def known(self, names: Iterable[str]) -> tuple[dict[str, str], AmphoraError | None]:
        """The uids of environments that the ledger knows, by the names that these have now: somebody may have called
        one otherwise in the workspace by hand. With what kept one of `names` from being looked at."""
        known = self.ledger.uids()
        lost = {uid for name, uid in known.items() if name not in self.workspace.environments}
        trouble = None
        for name in (name for name in names if lost and name not in known):
            try:
                uid = self.open(name).description.uid
            except AmphoraError as error:
                trouble = error
                continue
            if uid in lost:
                known[name] = uid
        return known, trouble

    def _described(self, entry: EnvironmentEntry, environment: Environment) -> Opened:
        """The environment with what it says of itself; the workspace's kind sheets stand over its own."""
        description = environment.describe()
        ours = self.workspace.sheets
        # A sheet for a kind that this environment lacks is for another one.
        known = [sheet for sheet in ours if sheet.kind in description.sheets]
        if not known:
            return Opened(entry, environment, description, self.guard)
        from amphora.core.form.kinds import sheets_in_force
        from amphora.environments.sheeted import Sheeted

        own = description.sheets
        for sheet in known:
            # What opens a definition is the adapter's work, at its edge: here it would be a rule that nobody obeys.
            if other := sorted(set(sheet.opens) - set(own[sheet.kind].opens)):
                raise SheetFault(
                    f"The workspace's sheet for {sheet.kind!r} says how {entry.name} writes ids ({other[0]}).",
                    subject=sheet.kind,
                    next_step=advice("Say that in the kind sheet beside the bridge sheet."),
                )
            if own[sheet.kind].outward.is_empty and not sheet.outward.is_empty:
                raise SheetFault(
                    f"The workspace's sheet for {sheet.kind!r} says what a connection is, which {entry.name} knows by"
                    " itself.",
                    subject=sheet.kind,
                    next_step=advice("Take [connection] out of that sheet."),
                )
        sheets = sheets_in_force(own.values(), known)
        # The schema is what the environment has, whatever a sheet of ours was written for; likewise what is read.
        sheets = {
            kind: replace(sheet, schema=own[kind].schema, reads=own[kind].reads) for kind, sheet in sheets.items()
        }
        sheeted: Environment = Sheeted(environment, own, sheets)
        return Opened(entry, sheeted, replace(description, sheets=sheets), self.guard)

    def as_known(self, contents: Contents) -> Contents:
        """A package with its source under the name that this has here by now: it may have been renamed since, and
        what is said of it in the workspace (its region, its column in the crosswalk) stands under that name."""
        names = {**self.ledger.environments(), **self.ledger.exports.sources()}
        name = names.get(contents.source_uid, contents.source)
        is_here = name != contents.source and name in self.workspace.environments
        return replace(contents, source=name) if is_here else contents

    def likely_target(self, source: str) -> str:
        """The environment where things from a source go next: by the route, else the first with a later role."""
        if source in self.workspace.route[:-1]:
            return self.workspace.route[self.workspace.route.index(source) + 1]
        entries = [entry for entry in self.workspace.environments.values() if entry.name != source]
        later = sorted((entry for entry in entries if entry.role != "build"), key=lambda e: ROLES.index(e.role))
        # A name to be filled in is better than a command that can't be pasted without reading.
        return (later or entries)[0].name if entries else blank("ENVIRONMENT")

    @cached_property
    def guard(self) -> Guard:
        """What the gate for secrets goes by: the values that this workspace has silenced."""
        rows = (row for row in self.workspace.silenced if row.rule in ("secret-in-clear", "random-looking"))
        return Guard(frozenset((row.item, row.place, row.value) for row in rows), os.urandom(16))

    def reload(self) -> None:
        """Forgets what was read: somebody else has written since. What is asked for next is read anew."""
        from amphora.files.workspace import read_workspace

        self.close()
        self._opened.clear()
        for name in ("ledger", "crosswalk"):
            self.__dict__.pop(name, None)
        self.workspace = read_workspace(self.workspace.folder)

    def close(self) -> None:
        """Closes the environments and the ledger."""
        for opened in self._opened.values():
            opened.environment.close()
        # Not opened for closing: that would make one in a folder where nothing was done.
        if "ledger" in self.__dict__:
            self.ledger.close()
