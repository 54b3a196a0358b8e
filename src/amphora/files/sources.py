"""Wherever a package can stand: a file, a name in the workspace, a plain folder, a git revision of one."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from amphora.core.values.model import Contents
from amphora.files.folder import GIT, read_folder, read_git
from amphora.files.package import find_package, read_package


def open_package(name: str, packages: Path) -> Contents:
    """Reads and verifies the package that a name on the command line means."""
    if name.startswith(GIT):
        return replace(read_git(name), file=name)
    if Path(name).is_dir():
        return replace(read_folder(Path(name)), file=str(Path(name).resolve()))
    path = find_package(name, packages)
    contents = read_package(path)
    is_stored = path.resolve().parent == packages.resolve()
    return contents if is_stored else replace(contents, file=str(path.resolve()))


def is_elsewhere(name: str) -> bool:
    """Whether a name can be read without a workspace."""
    return name.startswith(GIT) or Path(name).exists()
