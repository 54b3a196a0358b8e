"""From a workspace entry to an open environment: the scheme of its location names the adapter."""

from __future__ import annotations

import os
from importlib import import_module
from pathlib import Path
from typing import Any

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice, to_type
from amphora.environments.contract import Environment
from amphora.files.workspace import EnvironmentEntry

GROUP = "amphora.environments"
KEYRING = "amphora"
OWN = {
    "practice": "amphora.environments.practice",
    "folder": "amphora.environments.folder",
    "nodered": "amphora.environments.nodered.adapter",
    "https": "amphora.environments.http.adapter",
    "http": "amphora.environments.http.adapter",
}
"""Our own adapters, found without asking every installed package; those of others come by entry point."""
FORMS = (
    "practice:FILE, the simulated platform",
    "folder:PATH, a folder with a file for each item",
    "https://HOST/PATH, the environment protocol, or with --bridge any platform with a REST interface",
    "nodered+http://HOST:PORT, a flow runtime",
)
"""How a location is written, as people are told."""


def scheme_of(location: str) -> str:
    """The adapter's name in a location: `practice:FILE` -> `practice`, `nodered+http://…` -> `nodered`."""
    return location.partition(":")[0].partition("+")[0]


def open_environment(entry: EnvironmentEntry, folder: Path) -> Environment:
    """Opens an environment of a workspace, signed in as its entry says."""
    if entry.bridge:
        # Described and not programmed: the sheet is the adapter.
        from amphora.environments.bridge.source import connect_bridge, read_bridge

        sheet = read_bridge(entry.bridge, folder, entry.own, entry.name)
        ca_file = str(folder / entry.ca_file) if entry.ca_file else ""
        return connect_bridge(sheet, entry.location, entry.user, sign_in_secret(entry), ca_file)
    connect = adapter_for(entry.location)
    # Only where it is set: adapters of others need not know of it.
    more = {"ca_file": str(folder / entry.ca_file)} if entry.ca_file else {}
    try:
        environment: Environment = connect(entry.location, folder, entry.user, sign_in_secret(entry), **more)
    except TypeError as error:
        if not more or "ca_file" not in str(error):
            raise
        raise UsageFault(
            f"The adapter of {entry.name} takes no ca_file.", subject=entry.name, next_step=advice("Take it out.")
        ) from error
    return environment


def adapter_for(location: str) -> Any:
    """The adapter's `connect`; UsageFault names the schemes that are known."""
    scheme = scheme_of(location)
    # Without asking every installed package for its entry points, which takes longer than opening one.
    if ":" in location and scheme in OWN:
        return import_module(OWN[scheme]).connect

    from importlib.metadata import entry_points

    known = {point.name: point for point in entry_points(group=GROUP)}
    if ":" not in location or scheme not in known:
        raise UsageFault(
            f"No adapter knows the location {location!r}.",
            subject=location,
            details=[f"known: {form}" for form in (*FORMS, *(f"{name}:…" for name in sorted(known.keys() - OWN)))],
            next_step=advice("Write it in one of these forms."),
        )
    return known[scheme].load()


def sign_in_secret(entry: EnvironmentEntry) -> str:
    """The secret that an entry points to; it is handed to the adapter and kept nowhere."""
    source, _, name = entry.sign_in.partition(":")
    if source == "env":
        # Empty counts as not set: a pipeline whose secret is missing sets an empty one.
        if not os.environ.get(name):
            raise UsageFault(
                f"{entry.name} signs in with the variable {name}, which is not set.",
                subject=entry.name,
                next_step=advice(f"Set {name} in this shell and try again."),
            )
        return trimmed(os.environ[name])
    return keyring_secret(entry.name, name) if source == "keyring" else ""


def trimmed(secret: str) -> str:
    """A secret without the end of line that a file or a shell put behind it, which no server would take."""
    return secret.rstrip("\r\n")


def kept_secret(where: str, environment: str) -> str | None:
    """The secret that a row of the crosswalk points to (`env:NAME`, `keyring:NAME`); None where there is none yet."""
    source, _, name = where.partition(":")
    if source == "env":
        return trimmed(os.environ.get(name, "")) or None
    try:
        return keyring_secret(environment, name) if source == "keyring" else None
    except UsageFault:
        return None


def keyring_secret(environment: str, name: str) -> str:
    """A secret from the system keyring; UsageFault where there is none, or no keyring."""
    import keyring
    from keyring.errors import KeyringError

    try:
        secret = keyring.get_password(KEYRING, name)
    except KeyringError as error:
        raise UsageFault(
            f"The system keyring can't be read ({type(error).__name__}).",
            subject=environment,
            next_step=advice('Write sign_in = "env:NAME" in amphora.toml instead.'),
        ) from error
    if not secret:
        raise UsageFault(
            f"{environment} signs in from the keyring, which holds nothing under {name!r}.",
            subject=environment,
            next_step=to_type("env", "sign-in", environment),
        )
    return trimmed(secret)


def keep_secret(environment: str, secret: str) -> None:
    """Puts a secret into the system keyring, under the environment's name."""
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.set_password(KEYRING, environment, secret)
    except KeyringError as error:
        raise UsageFault(
            f"The system keyring can't be used ({type(error).__name__}).",
            subject=environment,
            next_step=advice('Set a variable in your shell and write sign_in = "env:NAME" in amphora.toml.'),
        ) from error
