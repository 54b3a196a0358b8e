"""Making the practice environments."""

from __future__ import annotations

from pathlib import Path

from amphora.core.errors import UsageFault
from amphora.practice.halcyon import PLACES, SUFFIX, make_halcyon


def new_practice(folder: Path) -> list[Path]:
    """The four environments of Halcyon Grove as files; UsageFault where one is already."""
    for name in PLACES:
        path = folder / f"{name}{SUFFIX}"
        if path.exists():
            raise UsageFault(f"{path} exists already.", subject=str(path), next_step="Choose another folder.")
    return make_halcyon(folder)
