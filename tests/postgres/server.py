"""Starts a PostgreSQL server on loopback, with a password, and ends the one that it started."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg

PASSWORD = "made-up-heron"
FOLDERS = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda path: int(path.parent.name), reverse=True)


@dataclass(frozen=True)
class Server:
    """A running server; each call of `database` makes a new one in it and gives its address, without a password."""

    port: int

    def url(self, name: str) -> str:
        return f"postgresql://amphora@127.0.0.1:{self.port}/{name}"

    def database(self) -> str:
        with psycopg.connect(self.url("postgres"), password=PASSWORD, autocommit=True) as db:
            [[count]] = db.execute("select count(*) from pg_database").fetchall()
            name = f"ledger_{os.getpid()}_{count}"
            db.execute(f'create database "{name}"'.encode())
        return self.url(name)


@contextmanager
def started_server() -> Iterator[Server]:
    """A server with one user, `amphora`, over a folder of its own; it is gone with all that is in it afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="ledger-server-"))
    secret = folder / "password"
    secret.write_text(PASSWORD + "\n")
    try:
        # The server refuses to run as root: there it is given to the user that its package has made.
        user = "postgres" if os.geteuid() == 0 else ""
        if user:
            about = pwd.getpwnam(user)
            os.chown(folder, about.pw_uid, about.pw_gid)
            os.chown(secret, about.pw_uid, about.pw_gid)
        data = str(folder / "data")
        _run(user, "initdb", "-D", data, "-U", "amphora", f"--pwfile={secret}", "--auth=scram-sha-256", "-E", "UTF8")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        options = f"-c listen_addresses=127.0.0.1 -p {port} -k {folder} -c fsync=off"
        _run(user, "pg_ctl", "-D", data, "-l", str(folder / "log"), "-w", "-o", options, "start")
        try:
            yield Server(port)
        finally:
            _run(user, "pg_ctl", "-D", data, "-m", "immediate", "stop")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _run(user: str, program: str, *words: str) -> None:
    path = str(FOLDERS[0] / program) if FOLDERS else program
    before = ["runuser", "-u", user, "--"] if user else []
    # To a file and not a pipe: the server keeps what it inherits open for as long as it runs.
    with tempfile.TemporaryFile() as told:
        done = subprocess.run([*before, path, *words], stdout=told, stderr=told, cwd="/", check=False)
        told.seek(0)
        assert done.returncode == 0, told.read().decode()
