"""Wherever a package can stand: a file, a name in the workspace, a plain folder, a git revision of one."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from amphora.core.form.copies import copied, taken_apart
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Contents
from amphora.core.values.next_step import blank, to_type
from amphora.files.folder import read_folder, read_git
from amphora.files.git import GIT
from amphora.files.names import SUFFIX
from amphora.files.package import find_package, read_package
from amphora.files.packing_list import PACKING_LIST


def open_package(name: str, packages: Path | None) -> Contents:
    """Reads and verifies the package that a name on the command line means. A path is a path; a bare name is a
    package of the workspace (`packages`, None outside of one), with or without its ending, and only where there is
    none of that name something that lies in the present folder; `NAME~COPY` is a copy of it. UsageFault where both
    are there and differ: neither is taken for the other."""
    base, copy = taken_apart(name)
    return copied(_open(base, packages), copy) if copy else _open(name, packages)


def open_folder(name: str) -> Contents:
    """Reads the package that was laid out in a folder, or in a git revision of one; never one of the workspace that
    is called so."""
    if name.startswith(GIT):
        return replace(read_git(name), file=name)
    here = Path(name)
    if not here.is_dir():
        raise UsageFault(
            f"There is no folder {name!r}." if not here.exists() else f"{name} is no folder.",
            subject=name,
            next_step=to_type("to-folder", blank("PACKAGE"), blank("FOLDER")),
        )
    return _read_here(here, None)


def stored_package(name: str, packages: Path) -> Contents:
    """The package, or the copy of one, that lies in the workspace under a name."""
    base, copy = taken_apart(name)
    contents = read_package(find_package(base, packages))
    return copied(contents, copy) if copy else contents


def _open(name: str, packages: Path | None) -> Contents:
    if name.startswith(GIT):
        return replace(read_git(name), file=name)
    here = Path(name)
    is_ours = here.is_file() or (here / PACKING_LIST).is_file()
    if packages and here.name == name and not here.exists() and (packages / name).is_file():
        # The name of the file, as a list of the folder shows it.
        return read_package(packages / name)
    if _is_path(name) or packages is None:
        return _read_here(here, packages)
    try:
        stored = find_package(name, packages)
    except UsageFault:
        if not is_ours:
            raise
        return _read_here(here, packages)
    contents = read_package(stored)
    if is_ours and (found := _read_here(here, packages)).digest() != contents.digest():
        raise UsageFault(
            f"{name!r} can mean two packages: {contents.title} of the workspace, and {found.title} in this folder.",
            subject=name,
            details=[f"in the workspace: {stored}", f"in this folder: {here.resolve()}"],
            next_step=to_type("peek", f"./{name}"),
        )
    return (
        contents if stored.resolve().parent == packages.resolve() else replace(contents, file=str(stored.resolve()))
    )


def _is_path(name: str) -> bool:
    """Whether a name is said to be a path: it has a separator or a package's ending, or leads somewhere else."""
    return "/" in name or os.sep in name or name.endswith(SUFFIX) or name in (".", "..")


def _read_here(here: Path, packages: Path | None) -> Contents:
    if here.is_dir():
        return replace(read_folder(here), file=str(here.resolve()))
    contents = read_package(here)
    is_stored = packages is not None and here.resolve().parent == packages.resolve()
    return contents if is_stored else replace(contents, file=str(here.resolve()))


def is_elsewhere(name: str) -> bool:
    """Whether a name can be read without a workspace."""
    return name.startswith(GIT) or Path(name).exists()
