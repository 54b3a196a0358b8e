"""A package laid out in a git repository, read from a revision: plain objects through git's own plumbing, so that no
filter, attribute, hook or option of a repository that nobody trusts is run or changes a byte.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator, Sequence
from typing import IO

from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import advice, other_program
from amphora.core.values.raw import PIECE_BYTES, Raw
from amphora.files.archive import LARGE
from amphora.files.bounds import Bounds

GIT = "git:"
_FILES = ("100644", "100755")
_SETTINGS = ("core.fsmonitor=false", "core.hooksPath=/dev/null", "protocol.allow=never", "core.pager=cat")
# Nothing is fetched that is missing (a partial clone names who to ask, and how), no object stands in for another, and
# nobody is asked for a password.
_VARIABLES = {
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_NO_REPLACE_OBJECTS": "1",
    "GIT_TERMINAL_PROMPT": "0",
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_CONFIG_NOSYSTEM": "1",
    "LC_ALL": "C",
}


@dataclass(frozen=True)
class Blob:
    """One file of a revision, read in pieces."""

    repository: str
    object_id: str
    size_bytes: int

    def chunks(self) -> Iterator[bytes]:
        command = _command(self.repository, "cat-file", "blob", self.object_id)
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=_environment()) as git:
            assert git.stdout is not None
            while piece := git.stdout.read(PIECE_BYTES):
                yield piece
        if git.returncode:
            raise PackageDamaged(f"git can't read the object {self.object_id}.", subject=self.repository)


def read_tree(location: str) -> dict[str, Raw]:
    """The files below `data/` of `git:REPO@REV:FOLDER`; what may be large stays in the repository until it is asked
    for."""
    body, _, folder = location.removeprefix(GIT).rpartition(":")
    repository, _, revision = body.rpartition("@")
    if not repository or not revision:
        raise UsageFault(
            f"{location!r} is no git location.",
            subject=location,
            next_step=advice("Write it like git:REPO@REV:FOLDER"),
        )
    tree = f"{revision}:{folder.strip('/')}"
    listed = _said(location, repository, "ls-tree", "-r", "-z", "-l", "--full-tree", "--end-of-options", tree)
    wanted: dict[str, Blob] = {}
    for row in listed.split(b"\0"):
        about, _, raw_name = row.partition(b"\t")
        if not raw_name.startswith(b"data/"):
            continue
        mode, _, object_id, size = about.decode("ascii").split()
        name = raw_name.decode("utf-8", "replace")
        # A link, or another repository: what stands behind it is not in this revision.
        if mode not in _FILES:
            raise PackageDamaged(f"{name} is a link or a special file.", subject=location)
        wanted[name] = Blob(repository, object_id, int(size))
    held = {name: blob for name, blob in wanted.items() if not name.startswith(LARGE)}
    bounds = Bounds.here()
    if len(wanted) > bounds.members:
        raise bounds.refuse("It has more files than are read", "members", location)
    if sum(blob.size_bytes for blob in held.values()) > bounds.json_bytes:
        raise bounds.refuse("Its items take more memory than a package may", "json_bytes", location)
    return {**wanted, **dict(zip(held, _contents(location, repository, list(held.values())), strict=True))}


def _contents(location: str, repository: str, blobs: Sequence[Blob]) -> Iterator[bytes]:
    """The contents of some objects, through one process."""
    if not blobs:
        return
    command = _command(repository, "cat-file", "--batch")
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env=_environment()
    ) as git:
        assert git.stdin is not None
        assert git.stdout is not None
        for blob in blobs:
            # One question at a time: asked all at once, both sides would wait for the other to read.
            git.stdin.write(f"{blob.object_id}\n".encode("ascii"))
            git.stdin.flush()
            yield _answer(location, git.stdout, blob)
        # The process ends when nothing more is asked; leaving the block waits for it.
        git.stdin.close()


def _answer(location: str, out: IO[bytes], blob: Blob) -> bytes:
    head = out.readline().split()
    if len(head) != 3 or head[1] != b"blob" or int(head[2]) != blob.size_bytes:
        raise PackageDamaged(f"git can't read the object {blob.object_id}.", subject=location)
    content = out.read(blob.size_bytes)
    out.read(1)  # an end of line behind each
    return content


def _said(location: str, repository: str, *words: str) -> bytes:
    try:
        done = subprocess.run(
            _command(repository, *words),
            capture_output=True,
            check=False,
            stdin=subprocess.DEVNULL,
            env=_environment(),
        )
    except FileNotFoundError as error:
        raise UsageFault("git is not installed.", next_step=advice("Install git, or use a plain folder.")) from error
    if done.returncode:
        reason = done.stderr.decode(errors="replace").strip().splitlines()[-1:]
        raise UsageFault(
            f"git can't read {words[-1]} in {repository}: {' '.join(reason)}",
            subject=location,
            next_step=other_program("git", "-C", repository, "log", "--oneline"),
        )
    return done.stdout


def _command(repository: str, *words: str) -> list[str]:
    settings = [word for setting in _SETTINGS for word in ("-c", setting)]
    return ["git", "--no-pager", "-C", repository, *settings, *words]


def _environment() -> dict[str, str]:
    # Without what would point git to another repository than the one that is named.
    inherited = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")}
    return inherited | _VARIABLES
