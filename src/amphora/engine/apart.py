"""Attachments that an environment keeps beside its definitions: fetched when somebody wants them, and once."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import IO

from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.raw import PIECE_BYTES, Raw
from amphora.environments.contract import Environment, KeepsFiles


class Apart:
    """One attachment of an environment. It is fetched when its content is asked for first, into a file that vanishes
    with it: whoever writes a package reads it twice, for its checksum and for its content."""

    def __init__(self, environment: KeepsFiles, name: str) -> None:
        self._environment, self._name = environment, name

    @cached_property
    def size_bytes(self) -> int:
        """As the environment says, without fetching it."""
        # Asked when somebody wants to know: most attachments of a target are never looked at.
        held = self._environment.held_files([self._name])
        if self._name not in held:
            raise EnvironmentRefused(f"The attachment {self._name[:8]} is named there, and is not there.")
        return held[self._name]

    def chunks(self) -> Iterator[bytes]:
        """Its content in pieces."""
        # By position, and not by one file that is read on: two readers may be under way.
        position = 0
        while piece := self._read(position):
            position += len(piece)
            yield piece

    def _read(self, position: int) -> bytes:
        self._fetched.seek(position)
        return self._fetched.read(PIECE_BYTES)

    @cached_property
    def _fetched(self) -> IO[bytes]:
        # Closed, and so removed, with the last who holds it (a package that is written, or a comparison).
        file = tempfile.TemporaryFile()  # noqa: SIM115
        try:
            file.writelines(self._environment.file(self._name))
        except BaseException:
            file.close()
            raise
        return file


def apart(environment: Environment) -> Callable[[str], Raw] | None:
    """How its attachments are got, None where its definitions hold them."""
    if not isinstance(environment, KeepsFiles):
        return None
    # One for each, however many items name it: an icon of hundreds of apps is fetched once.
    found: dict[str, Raw] = {}
    return lambda name: found.setdefault(name, Apart(environment, name))
