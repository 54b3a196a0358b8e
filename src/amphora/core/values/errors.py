"""The one family of expected errors; each knows its subject, its place and the next step."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.values.next_step import NOTHING, NextStep


class AmphoraError(Exception):
    """Something went wrong that the user can understand and act upon.

    `subject` is the item, file or environment concerned, `place` the spot in it (a JSON Pointer, or
    line and column), `next_step` what to do now, best a command. `details` are further lines, for
    errors that collect all they found.
    """

    def __init__(
        self,
        message: str,
        *,
        subject: str | None = None,
        place: str | None = None,
        next_step: NextStep = NOTHING,
        details: Sequence[str] = (),
    ) -> None:
        super().__init__(message)
        self.message = message
        self.subject = subject
        self.place = place
        self.next_step = next_step
        self.details = tuple(details)


class UsageFault(AmphoraError):
    """The request itself is wrong: an unknown name, a broken file that people edit."""


class NotReady(AmphoraError):
    """Decisions or mappings are missing, or what was decided is out of date; nothing was touched."""


class EnvironmentRefused(AmphoraError):
    """The environment said no; it is as it was."""


class RevisionMoved(EnvironmentRefused):
    """A conditional write found another revision than the one that was seen."""


class Unavailable(AmphoraError):
    """The environment is unreachable, busy or locked; try later."""


class Uncertain(AmphoraError):
    """A call was sent and no answer came: nobody knows whether it took effect."""


class Failed(Uncertain):
    """A call was answered by the server itself with that it failed: nothing of it is still on its way."""


class Busy(Failed):
    """A call was answered with that there is too much to do just now: it may be made again, if it took no effect."""


class Interrupted(AmphoraError):
    """The user interrupted what was going on."""


class BrokenOff(AmphoraError):
    """A run stopped with something done that was not put back."""


class PackageDamaged(AmphoraError):
    """A package breaks its format, its digests or our trust."""


class SheetFault(AmphoraError):
    """A kind sheet does not say what it has to."""


class LedgerTrouble(Unavailable):
    """The ledger is locked, full or damaged; whether anything was touched, whoever catches it knows."""


class FaultInRun(AmphoraError):
    """Something that Amphora itself did wrong, in the middle of a run; what became of the target is said."""
