"""Who edited an item in a target: not the account that imported over it later."""

from __future__ import annotations

from amphora.core.values.keys import Key
from amphora.core.values.model import Listed
from amphora.ledger.ledger import Ledger


def mender(ledger: Ledger, uid: str, key: Key, row: Listed | None) -> tuple[str, str]:
    """Account and time of whoever changed an item last, past Amphora. Where the last write was a run's own, the run
    knows who had edited what it kept; empty where nobody is known."""
    if row is None:
        return "", ""
    who, at = _before_undo(ledger, uid, key, row.modified_by or "", row.modified_at or "")
    for delivered in ledger.deliveries_of(uid, key):
        run = ledger.journal.run(delivered.run)
        # Times to the second: what is later than the end of the run was not its doing.
        if who != run.account or (run.ended_at and at > run.ended_at):
            return who, at
        if found := (ledger.journal.docket(run) or {}).get("mended", {}).get(key):
            who, at = found
    return who, at


def _before_undo(ledger: Ledger, uid: str, key: Key, who: str, at: str) -> tuple[str, str]:
    """Who had made the state that an undo gave back: it wrote the item, and edited nothing."""
    for run in ledger.journal.backwards_in(uid):
        # The latest first, for each gives back what was there before an older one.
        if who == run.account and run.started_at <= at <= (run.ended_at or at):
            image = ledger.journal.image_before(run, key)
            who, at = (image.modified_by or "", image.modified_at or "") if image else (who, at)
    return who, at
