"""What the gate is asked and answers: where a target stands, what somebody agreed to, and what is in the way."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import field
from enum import StrEnum

from amphora.core.form.kinds import KindSheet
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NOTHING, NextStep
from amphora.core.values.rights import Lacks


class Why(StrEnum):
    """What kind of thing is in the way."""

    OPEN_RUN = "an open run"
    MOVED = "out of date"
    PERMISSION = "permission"
    UNKNOWN = "unknown there"
    SECRET = "a secret in clear"
    TAKEN = "a name is taken"
    NEED = "to map"
    PAUSE = "a pause"
    DECISION = "to decide"
    CONSENT = "to agree to"
    BLOCKED = "still used"
    FINDING = "found by check"
    POLICY = "policy"
    AGREEMENT = "agreement"
    REGION = "another region"
    UPSTREAM = "not verified before"


@dataclass(frozen=True)
class Reason:
    """One thing in the way: the sentence, what exactly, and what to do about it."""

    why: Why
    message: str
    details: tuple[str, ...] = ()
    next_step: NextStep = NOTHING
    subject: Key = ""


@dataclass(frozen=True)
class Standing:
    """What of a target the gate looks at, beside the docket. `open_run` names a run of this target that is neither
    finished nor put back, `can_go_on` whether it can be finished; `paused_run` waits there with this package."""

    permissions: frozenset[str]
    account: str = ""
    roles: Mapping[str, frozenset[str]] = field(default_factory=dict)
    sheets: Mapping[str, KindSheet] = field(default_factory=dict)
    open_run: str = ""
    open_state: str = ""
    can_go_on: bool = False
    paused_run: str = ""
    policy: str = ""
    region: str = ""
    bound: Mapping[Key, str] = field(default_factory=dict)
    """Items that hold data which the workspace keeps in another region, with that region."""
    approvals: int = 0
    """How many people have to agree to an import into this target."""
    agreed: tuple[str, ...] = ()
    """Those who did, in words; whoever imports is not among them."""
    not_counted: tuple[str, ...] = ()
    """Agreements that are worth nothing here, each with the reason."""
    lacks: Lacks = frozenset()
    """Rights that only some kinds need, and the account does not have."""
    upstream: str = ""
    """Why it may not go in before it was verified elsewhere, and what to do."""
    upstream_step: NextStep = NOTHING


@dataclass(frozen=True)
class Consent:
    """What somebody agreed to, beyond creating items and updating those that nobody edited: a reviewed docket
    covers all that is in it, `take_over` names packages whose items may be overridden, `edited` items of which the
    local edits were shown. `may_pause` is whether the import may stop for something to be set up by hand; `run` is
    the one that is to go on, if it is no new one."""

    is_reviewed: bool = False
    take_over: Collection[str] = ()
    edited: Collection[Key] = ()
    may_pause: bool = True
    run: str = ""
