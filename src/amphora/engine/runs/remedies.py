"""Remedies: what has to be done after a failure, before somebody goes on."""

from __future__ import annotations

from amphora.core.values.errors import AmphoraError, Interrupted


def before_going_on(error: AmphoraError) -> str:
    """What has to be done before somebody goes on."""
    if isinstance(error, Interrupted):
        return "When it suits"
    words = str(error.next_step) if error.next_step else again(error)
    return f"{words.rstrip('.')}, then"


def again(error: AmphoraError) -> str:
    """What to do where the failure itself names nothing."""
    return "Run the same command again when it suits" if isinstance(error, Interrupted) else "Mend the cause"
