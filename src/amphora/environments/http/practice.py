"""Practice environments served over HTTP."""

from __future__ import annotations

import os
import secrets
from collections.abc import Sequence
from functools import partial
from http.server import ThreadingHTTPServer
from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice
from amphora.environments.contract import Environment
from amphora.environments.http.service import Service, server_of
from amphora.environments.practice import DEFAULT_ACCOUNT, connect

SECRET = "AMPHORA_PRACTICE_SECRET"


def served(files: Sequence[Path], port: int, secret: str = "") -> tuple[ThreadingHTTPServer, list[str]]:
    """A server for practice files, and what to tell about it: addresses, and how to sign in. UsageFault where a file
    is none, two have one name, or the port is taken."""
    names = [path.name.removesuffix(".practice") for path in files]
    for path, name in zip(files, names, strict=True):
        if not path.is_file() or names.count(name) > 1:
            reason = "there is no such file" if not path.is_file() else "two of that name"
            raise UsageFault(
                f"{path} can't be served: {reason}.", subject=str(path), next_step=advice("Name another.")
            )
    given = secret or os.environ.get(SECRET, "")
    secret = given or secrets.token_urlsafe(12)
    opens = {name: partial(_opened, path.resolve()) for name, path in zip(names, files, strict=True)}
    service = Service(opens, _Everybody(secret))
    try:
        server = server_of(service, port)
    except OSError as error:
        words = (error.strerror or "it can't be used").lower()
        raise UsageFault(
            f"Port {port} can't be used: {words}.", next_step=advice("Take another with --port.")
        ) from error
    base = f"http://127.0.0.1:{server.server_port}"
    lines = [f"{name}  {base}/{name}" for name in names]
    lines += ["", f"Sign in as {DEFAULT_ACCOUNT}, or another account of theirs, with the secret in {SECRET}."]
    # Only one that was just made up is told: the other is known to whoever set it.
    lines += [] if given else [f"  export {SECRET}={secret}"]
    lines += [""]
    lines += [
        f"amphora env add {name} {base}/{name} --user {DEFAULT_ACCOUNT} --sign-in env:{SECRET}" for name in names
    ]
    return server, lines


class _Everybody(dict[str, str]):
    """Every account signs in with one secret: it is made-up data, on one machine."""

    def __init__(self, secret: str) -> None:
        super().__init__()
        self._secret = secret

    def get(self, client: str, default: object = None) -> str:
        return self._secret


def _opened(path: Path, account: str) -> Environment:
    return connect(f"practice:{path}", path.parent, account, "")
