"""Links on the way: nothing is read, written or deleted through one that may lead out of the folder it stands in."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

from amphora.core.values.errors import PackageDamaged
from amphora.core.values.next_step import advice


def below(folder: Path, name: str) -> Path:
    """The path of a name below a folder; PackageDamaged where any step of it is a link. The folder itself may be one:
    that is what somebody named."""
    path = folder
    for part in PurePosixPath(name).parts:
        # Step by step and not by comparing resolved paths: a link that leads back inside today leads out tomorrow.
        path = path / part
        # `..` is no name that we give, and one that somebody slips into a packing list leads out.
        if part == ".." or path.is_symlink():
            raise PackageDamaged(
                f"{path} is a link.",
                subject=str(path),
                next_step=advice("Take it out, or put what it leads to in its place."),
            )
    return path
