"""What a sheet can't say: a few functions in Python, found by an entry point of the group `amphora.bridge_hooks`."""

from __future__ import annotations

from importlib.metadata import entry_points
from typing import Any

from amphora.core.values.errors import EnvironmentRefused, UsageFault
from amphora.core.values.model import Json
from amphora.core.values.next_step import advice
from amphora.environments.bridge.parts import BridgeSheet

GROUP = "amphora.bridge_hooks"


class Hook:
    """The functions of one hook, each of which it may leave out: `shown(kind, answer)` gives a row of a list or a
    single answer as the sheet expects it, `sent(kind, body)` what is sent instead of a body."""

    def __init__(self, name: str = "", functions: Any = None) -> None:
        self._name, self._functions = name, functions

    def shown(self, kind: str, answer: Json) -> Json:
        """What a platform answered, as the sheet describes it."""
        return self._done("shown", kind, answer)

    def sent(self, kind: str, body: Any) -> Any:
        """What is sent to the platform."""
        return self._done("sent", kind, body)

    def _done(self, function: str, kind: str, value: Any) -> Any:
        work = getattr(self._functions, function, None)
        if work is None or value is None:
            return value
        try:
            return work(kind, value)
        # Somebody else's code: whatever it raises is its fault, and no reason to end without a word.
        except Exception as error:
            raise EnvironmentRefused(
                f"The hook {self._name!r} failed in {function}() for a {kind}: {type(error).__name__}: {error}.",
                subject=self._name,
                next_step=advice("Mend the hook, or ask whoever wrote it."),
            ) from error


def hook_of(sheet: BridgeSheet) -> Hook:
    """The hook that a sheet names; UsageFault where it isn't installed."""
    if not sheet.hook:
        return Hook()
    known = {point.name: point for point in entry_points(group=GROUP)}
    if sheet.hook not in known:
        raise UsageFault(
            f"The bridge sheet {sheet.file} needs the hook {sheet.hook!r}, which is not installed.",
            subject=sheet.hook,
            details=[f"installed: {', '.join(sorted(known)) or 'none'}"],
            next_step=advice(f"Install the package that offers it (entry point group {GROUP})."),
        )
    return Hook(sheet.hook, known[sheet.hook].load())
