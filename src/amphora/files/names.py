"""Names that become those of files: of packages and keys."""

from __future__ import annotations

import re
from typing import Final

from amphora.core.values.errors import UsageFault
from amphora.core.values.next_step import advice

SUFFIX: Final = ".amphora"
"""How the name of a package file ends."""

NAME: Final = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,99}")
"""No option, no hidden file, nothing that leads elsewhere or that a shell or a screen takes for something else."""


def name_for(item: str) -> str:
    """A package's name from how an item was named.

    >>> name_for("Harvest Intake"), name_for("flow:mill/quality/acidity-alert")
    ('harvest-intake', 'acidity-alert')
    """
    last = re.split(r"[:/]", item.rstrip("/*"))[-1]
    return re.sub(r"[^a-z0-9]+", "-", last.lower()).strip("-") or "carried"


def checked_name(name: str, what: str) -> str:
    """The name, of a package or a key (`what`); UsageFault where it could be anything but the name of a file."""
    if not NAME.fullmatch(name):
        raise UsageFault(
            f"{name!r} can't be the name of {what}.",
            subject=name,
            next_step=advice("Use letters, digits, dots, dashes and underscores, beginning with a letter or digit."),
        )
    return name
