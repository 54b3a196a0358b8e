"""Practice environments served over HTTP."""

from __future__ import annotations

import os
import secrets
from collections.abc import Mapping, Sequence
from functools import partial
from http.server import ThreadingHTTPServer
from pathlib import Path

from amphora.core.values.errors import UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice
from amphora.environments.contract import Environment
from amphora.environments.http.service import Service, server_of
from amphora.environments.practice import DEFAULT_ACCOUNT, connect

SECRET = "AMPHORA_PRACTICE_SECRET"


@dataclass(frozen=True)
class Served:
    """Practice environments that are served: the server, the address of each by its name, the account to sign in
    with, and a secret that was just made up (else empty: whoever set it knows it)."""

    server: ThreadingHTTPServer
    addresses: Mapping[str, str]
    account: str
    new_secret: str


def served(files: Sequence[Path], port: int, secret: str = "") -> Served:
    """A server for practice files; it answers from `serve_forever` on. UsageFault where a file is none, two have one
    name, or the port is taken."""
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
    try:
        server = server_of(Service(opens, _Everybody(secret)), port)
    except (OSError, OverflowError) as error:
        words = (getattr(error, "strerror", None) or "it can't be used").lower()
        raise UsageFault(
            f"Port {port} can't be used: {words}.", next_step=advice("Take another with --port.")
        ) from error
    base = f"http://127.0.0.1:{server.server_port}"
    return Served(server, {name: f"{base}/{name}" for name in names}, DEFAULT_ACCOUNT, "" if given else secret)


class _Everybody(dict[str, str]):
    """Every account signs in with one secret: it is made-up data, on one machine."""

    def __init__(self, secret: str) -> None:
        super().__init__()
        self._secret = secret

    def get(self, client: str, default: object = None) -> str:
        return self._secret


def _opened(path: Path, account: str) -> Environment:
    return connect(f"practice:{path}", path.parent, account, "")
