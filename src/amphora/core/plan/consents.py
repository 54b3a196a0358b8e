"""What `--yes` does not cover, and a docket that somebody has looked at does: others' work that would be changed, cut
off or no longer in force."""

from __future__ import annotations

from collections.abc import Sequence

from amphora.core.plan.actions import Do
from amphora.core.plan.commands import to_compare, to_import
from amphora.core.plan.docket import Docket
from amphora.core.plan.reasons import Consent, Reason, Why
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NextStep, to_type

EDITS, PARTS, PACKAGES = "edits", "parts", "packages"
"""Whose work it is: what somebody mended there, what something else uses, what another package brought."""


@dataclass(frozen=True)
class Consented:
    """One thing that an import needs somebody's word for: whose work, what of it, each item."""

    whose: str
    what: str
    details: tuple[str, ...]
    next_step: NextStep


NOBODY = Consent()


def consents_of(docket: Docket, consent: Consent = NOBODY) -> list[Consented]:
    """What has to be agreed to, beyond what was agreed to already."""
    found, target = [], docket.target
    edited = [a.key for a in docket.edited if a.do is Do.UPDATE and a.key not in consent.edited]
    if edited:
        after = to_choose(docket, consent.run, edited)
        found.append(Consented(EDITS, f"items with local edits in {target}", tuple(map(readable, edited)), after))
    cut = [one for one in docket.severed if one[1] not in consent.edited]
    if cut:
        details = tuple(f"{readable(user)} uses {part!r} of {readable(key)}" for user, key, part in cut)
        after = to_choose(docket, consent.run, list(dict.fromkeys(key for _, key, _ in cut)))
        found.append(Consented(PARTS, f"what something else in {target} would no longer find", details, after))
    shared = {
        key: rest
        for key, packages in docket.shared.items()
        if (rest := [other for other in packages if other.partition(" ")[0] not in consent.take_over])
    }
    if shared:
        others = sorted({other.partition(" ")[0] for packages in shared.values() for other in packages})
        details = tuple(f"{readable(key)} is that of {', '.join(rest)}" for key, rest in sorted(shared.items()))
        names = [word for other in others for word in ("--take-over", other)]
        what = f"items in {target} from another package, which would no longer be in force"
        found.append(Consented(PACKAGES, what, details, to_import(docket, "--yes", *names)))
    return found


def lacking_consents(docket: Docket, consent: Consent) -> list[Reason]:
    """The same as reasons for which the gate is closed; a reviewed docket covers all that is in it."""
    if consent.is_reviewed:
        return []
    return [
        Reason(Why.CONSENT, f"--yes does not cover {one.what}.", one.details, one.next_step)
        for one in consents_of(docket, consent)
    ]


def to_choose(docket: Docket, run: str, keys: Sequence[Key]) -> NextStep:
    """How one decides on items: in a docket that can be reviewed, or, where a run goes on, beside it. Whoever pastes
    it loses nothing of what somebody did there."""
    if not run:
        return to_compare(docket, "--docket", docket.usual_file)
    return to_type("resume", run, *(word for key in keys for word in ("--choose", f"{readable(key)}=target")))
