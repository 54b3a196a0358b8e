"""What a shell completes: environments, packages, runs and items, from the workspace and its ledger alone. Nothing is
asked of an environment, and nothing that goes wrong here is told: whoever is typing has not run anything yet."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import click

    from amphora.files.workspace import Workspace

MOST = 200
"""More than this nobody looks through."""


def names_for(context: click.Context, parameter: click.Parameter, begun: str) -> list[str]:
    """The names that a word which was begun can become."""
    from amphora.core.values.errors import AmphoraError
    from amphora.files.workspace import find_workspace

    try:
        workspace = find_workspace(Path.cwd())
        found = [name for kind in WHAT.get(parameter.name or "", ()) for name in kind(workspace)]
    except (AmphoraError, OSError):
        return []
    return [name for name in dict.fromkeys(found) if name.startswith(begun)][:MOST]


def _environments(workspace: Workspace) -> Iterator[str]:
    yield from workspace.environments


def _groups(workspace: Workspace) -> Iterator[str]:
    yield from workspace.groups


def _packages(workspace: Workspace) -> Iterator[str]:
    from amphora.files.names import SUFFIX

    stems = sorted(path.name.removesuffix(SUFFIX) for path in workspace.packages.glob(f"*{SUFFIX}"))
    yield from (stem.rpartition("-")[0] for stem in stems)
    yield from stems


def _dockets(workspace: Workspace) -> Iterator[str]:
    yield from sorted(path.name for path in Path.cwd().glob("*.docket.yaml"))


def _selections(workspace: Workspace) -> Iterator[str]:
    yield from workspace.selections


def _runs(workspace: Workspace) -> Iterator[str]:
    from amphora.engine.session import Session

    if workspace.has_ledger:
        session = Session(workspace)
        yield from (run.name for run in session.ledger.journal.runs())
        session.close()


def _items(workspace: Workspace) -> Iterator[str]:
    from amphora.engine.session import Session

    if workspace.has_ledger:
        session = Session(workspace)
        yield from sorted({link.key for link in session.ledger.links()})
        session.close()


Kind = Callable[["Workspace"], Iterator[str]]
WHAT: dict[str, tuple[Kind, ...]] = {
    "environment": (_environments, _selections),
    "environments": (_environments, _groups),
    "package": (_packages, _dockets),
    "subject": (_packages, _runs),
    "left": (_packages, _environments),
    "right": (_environments, _groups, _packages),
    "others": (_environments, _items),
    "what": (_environments, _selections, _runs),
    "run": (_runs,),
    "item": (_items,),
    "items": (_items,),
}
"""What can stand for each parameter, by its name."""
