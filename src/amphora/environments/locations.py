"""From a workspace entry to an open environment: the scheme of its location names the adapter."""

from __future__ import annotations

import os
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any

from amphora.core.errors import UsageFault
from amphora.environments.contract import Environment
from amphora.files.workspace import EnvironmentEntry

GROUP = "amphora.environments"


def scheme_of(location: str) -> str:
    """The adapter's name in a location: `practice:FILE` -> `practice`, `nodered+http://…` -> `nodered`."""
    return location.partition(":")[0].partition("+")[0]


def open_environment(entry: EnvironmentEntry, folder: Path) -> Environment:
    """Opens an environment of a workspace, signed in as its entry says."""
    connect = adapter_for(entry.location)
    environment: Environment = connect(entry.location, folder, entry.user, sign_in_secret(entry))
    return environment


def adapter_for(location: str) -> Any:
    """The adapter's `connect`; UsageFault names the schemes that are known."""
    known = {point.name: point for point in entry_points(group=GROUP)}
    scheme = scheme_of(location)
    if ":" not in location or scheme not in known:
        raise UsageFault(
            f"No adapter knows the location {location!r}.",
            subject=location,
            details=[f"known: {', '.join(f'{name}:…' for name in sorted(known))}"],
            next_step="Write a location such as practice:grove-dev.practice or nodered+http://HOST:PORT",
        )
    return known[scheme].load()


def sign_in_secret(entry: EnvironmentEntry) -> str:
    """The secret that an entry points to; it is handed to the adapter and kept nowhere."""
    source, _, name = entry.sign_in.partition(":")
    if source == "env":
        if not os.environ.get(name):
            raise UsageFault(
                f"{entry.name} signs in with the variable {name}, which is not set.",
                subject=entry.name,
                next_step=f"Set {name} in this shell and try again.",
            )
        return os.environ[name]
    if source == "keyring":
        raise UsageFault(
            f"{entry.name} signs in from the keyring, which this version can't read yet.",
            subject=entry.name,
            next_step='Write sign_in = "env:NAME" in amphora.toml.',
        )
    return ""
