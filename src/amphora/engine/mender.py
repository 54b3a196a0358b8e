"""Who edited an item in a target: not the account that imported over it later."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from functools import cached_property

from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json, Listed
from amphora.ledger.ledger import Ledger
from amphora.ledger.records import Run


@dataclass
class Menders:
    """Who edited the items of one environment, as far as the ledger and the environment tell. Asked about many items,
    it reads what runs kept once: a docket is as long as its package."""

    ledger: Ledger
    uid: str
    _runs: dict[str, Run] = field(default_factory=dict)
    _mended: dict[str, Mapping[Key, Json]] = field(default_factory=dict)

    def of(self, key: Key, row: Listed | None) -> tuple[str, str]:
        """Account and time of whoever changed an item last, past Amphora. Where the last write was a run's own, the
        run knows who had edited what it kept; empty where nobody is known."""
        if row is None:
            return "", ""
        who, at = self._before_undo(key, row.modified_by or "", row.modified_at or "")
        for delivered in self.ledger.deliveries_of(self.uid, key):
            run = self._run(delivered.run)
            # Times to the second: what is later than the end of the run was not its doing.
            if who != run.account or (run.ended_at and at > run.ended_at):
                return who, at
            if found := self._mended[run.name].get(key):
                who, at = found
        return who, at

    def _run(self, name: str) -> Run:
        if name not in self._runs:
            run = self._runs[name] = self.ledger.journal.run(name)
            self._mended[name] = (self.ledger.journal.docket(run) or {}).get("mended", {})
        return self._runs[name]

    @cached_property
    def _backwards(self) -> list[Run]:
        return self.ledger.journal.backwards_in(self.uid)

    def _before_undo(self, key: Key, who: str, at: str) -> tuple[str, str]:
        """Who had made the state that an undo gave back: it wrote the item, and edited nothing."""
        for run in self._backwards:
            # The latest first, for each gives back what was there before an older one.
            if who == run.account and run.started_at <= at <= (run.ended_at or at):
                image = self.ledger.journal.image_before(run, key)
                who, at = (image.modified_by or "", image.modified_at or "") if image else (who, at)
        return who, at
