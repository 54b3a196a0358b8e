"""Bare `amphora`: where a workspace stands."""

from __future__ import annotations

from amphora.cli.work import Work


def show_workspace(work: Work) -> bool:
    """Shows where the workspace stands; false where there is none."""
    from amphora.core.values.errors import UsageFault
    from amphora.files.names import SUFFIX
    from amphora.files.workspace import FILE

    try:
        workspace = work.session.workspace
    except UsageFault as error:
        if error.subject == FILE:
            return False
        raise
    from amphora.render.peek import workspace_result

    packages = sorted(workspace.packages.glob(f"*{SUFFIX}"), key=lambda path: path.stat().st_mtime)
    names = [path.name.removesuffix(SUFFIX) for path in packages]
    runs = work.session.ledger.journal.runs() if workspace.has_ledger else []
    many = work.session.ledger.campaigns.open() if workspace.has_ledger else []
    still = work.session.ledger.aftercare.open() if workspace.has_ledger else []
    work.show(workspace_result(workspace.folder, list(workspace.environments), names, runs, many, still))
    return True
