"""The store of packages: a version is never reused for other contents, by whatever command writes it."""

from __future__ import annotations

import os
from pathlib import Path
from tempfile import NamedTemporaryFile

from amphora.core.values.errors import AmphoraError, UsageFault
from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice
from amphora.core.values.versions import is_version
from amphora.files.names import SUFFIX
from amphora.files.package import read_package, write_package
from amphora.files.packing_list import PACKING_LIST


class VersionTaken(UsageFault):
    """The version is there with other contents."""


class Store:
    """The packages in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path_of(self, contents: Contents) -> Path:
        """Where a package lies, or will lie."""
        return self.folder / f"{contents.name}-{contents.version}{SUFFIX}"

    def versions(self, name: str) -> dict[str, Path]:
        """The versions of a package that are there."""
        found = {p.name[len(name) + 1 : -len(SUFFIX)]: p for p in self.folder.glob(f"*{SUFFIX}")}
        return {
            version: path
            for version, path in found.items()
            if path.name == f"{name}-{version}{SUFFIX}" and is_version(version)
        }

    def put(self, contents: Contents, out: Path | None = None) -> tuple[Path, str]:
        """Writes a package, into the store or to a file of its own; gives the file and the package digest.
        VersionTaken if another package of the version, or a file that is none, is there already."""
        path = out or self.path_of(contents)
        path.parent.mkdir(parents=True, exist_ok=True)
        with NamedTemporaryFile(dir=path.parent, prefix=".", suffix=".writing", delete=False) as beside:
            temporary = Path(beside.name)
        try:
            digest = write_package(contents, temporary)
            try:
                # A link is made only where nothing is: of two who write at once, one finds the other's file.
                os.link(temporary, path)
            except FileExistsError:
                if self._is_other(contents, path, digest):
                    temporary.replace(path)
            except OSError:
                # Some file systems know no links: there nobody guards the moment between.
                # Looked at all the same: it guards against everything but two writers in the same instant.
                if path.exists() and not self._is_other(contents, path, digest):
                    return path, digest
                temporary.replace(path)
        finally:
            temporary.unlink(missing_ok=True)
        return path, digest

    def _is_other(self, contents: Contents, path: Path, digest: str) -> bool:
        """Whether another version of the same package lies in a file that was named, which may be replaced;
        false where this very package does; VersionTaken for anything else."""
        try:
            there = read_package(path)
        except AmphoraError as error:
            raise VersionTaken(
                f"{path} exists and is no package that can be read: it is not overwritten.",
                subject=str(path),
                next_step=advice("Move it away, or write elsewhere with --out FILE."),
            ) from error
        # The same contents under another name may be replaced: nothing is lost but the name.
        if there.package_digest == digest or there.digest() == contents.digest():
            return there.package_digest != digest and (there.name, there.version) != (contents.name, contents.version)
        if (there.name, there.source_uid) == (
            contents.name,
            contents.source_uid,
        ) and there.version != contents.version:
            return True
        raise VersionTaken(
            f"{path.name} exists with other contents.",
            subject=str(path),
            next_step=advice(
                f"Raise the version in the folder's {PACKING_LIST}, or write elsewhere with --out FILE."
            ),
        )
