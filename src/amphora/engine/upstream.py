"""What stands before a target on the route: is the package there, and as promised?"""

from __future__ import annotations

from amphora.core.form.copies import taken_apart
from amphora.core.plan.claims import Claims
from amphora.core.values.model import Contents
from amphora.core.values.next_step import NOTHING, NextStep, to_type
from amphora.engine.session import Session


def not_verified_before(session: Session, contents: Contents | None, target: str) -> tuple[str, NextStep]:
    """Why a package may not go into a target yet, where the workspace wants it verified in the environment before
    that on the route, and what to do; empty where it may."""
    workspace = session.workspace
    position = workspace.route.index(target) if target in workspace.route else 0
    if not workspace.is_verified_before or contents is None or position == 0:
        return "", NOTHING
    before = workspace.route[position - 1]
    # What comes from there is there.
    if before == contents.source:
        return "", NOTHING
    # A copy is the same package: what was tried is what it brings.
    name = taken_apart(contents.name)[0]
    uid = session.open(before).description.uid
    versions = {claim.version for claim in Claims(session.ledger.claims(uid)).of(name, contents.source_uid)}
    title = f"{name} {contents.version}"
    if contents.version not in versions:
        words = f"{title} has to be in {before} first, and as promised there; it is not."
        return words, to_type("import", f"{name}-{contents.version}", before)
    proved = session.ledger.proofs.latest().get((uid, name))
    if proved is None or proved.version != contents.version or proved.wrong:
        words = f"{title} is in {before}, and was not found as promised there."
        return words, to_type("verify", name, before)
    return "", NOTHING
