"""The gate at work: what stands between a docket and its target, looked up and told."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field

from amphora.core.form.spots import region_values
from amphora.core.plan.actions import Do
from amphora.core.plan.decisions import Decisions
from amphora.core.plan.docket import Docket
from amphora.core.plan.gate import reasons_of
from amphora.core.plan.reasons import Consent, Reason, Standing, Why
from amphora.core.plan.steps import Step, permissions_of
from amphora.core.values.errors import AmphoraError, NotReady, PackageDamaged
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.next_step import advice
from amphora.core.values.rights import not_permitted
from amphora.engine.docket import Prepared
from amphora.engine.session import Opened, Session
from amphora.engine.upstream import not_verified_before
from amphora.files.agreements import Agreement


@dataclass(frozen=True)
class ImportRequest:
    """What an import was asked for: decisions and consents, and whether anybody can be asked."""

    decisions: Decisions
    take_over: tuple[str, ...] = ()
    yes: bool = False
    is_terminal: bool = False
    may_pause: bool = True
    edited: Mapping[Key, str] = field(default_factory=dict)
    """Items with local edits that are agreed to, each with the digest of what was seen of it; empty for any."""
    run: str = ""
    """The run that is to go on, if it is no new one."""

    def consent(self, prepared: Prepared) -> Consent:
        """What is agreed to beyond creations and plain updates."""
        now = prepared.present
        edited = [
            key for key, seen in self.edited.items() if not seen or (key in now and now[key].fingerprint == seen)
        ]
        return Consent(prepared.is_reviewed, self.take_over, edited, self.may_pause, self.run)


def reasons_for(
    session: Session,
    docket: Docket,
    opened: Opened,
    contents: Contents | None,
    consent: Consent,
    agreements: Sequence[Agreement] = (),
) -> list[Reason]:
    """Everything in the way of carrying out a docket, or of going on with a run, as it is now. `agreements` are those
    to a docket that came from a file."""
    # Asked each time and never kept: permissions change while somebody reads a preview.
    identity = opened.environment.whoami()
    journal = session.ledger.journal
    open_runs = [one for one in journal.open_runs(opened.description.uid) if one.name != consent.run]
    waiting = journal.paused_runs(opened.description.uid)
    mine = [one.name for one in waiting if one.name != consent.run and one.package == docket.package]
    standing = Standing(
        identity.permissions,
        identity.account,
        identity.roles,
        opened.description.sheets,
        open_runs[0].name if open_runs else "",
        open_runs[0].standing if open_runs else "",
        bool(open_runs) and open_runs[0].can_go_on,
        mine[0] if mine else "",
        _policy(session, contents),
        _region_of(opened),
        _bound(session, docket, opened, contents),
        session.workspace.approvals.get(opened.entry.role, 0),
        tuple(one.words for one in agreements if one.counts and not one.is_own),
        tuple(_why_not(one) for one in agreements if not one.counts or one.is_own),
        identity.lacks,
        *(not_verified_before(session, contents, docket.target) if docket.actions else ()),
    )
    return reasons_of(docket, standing, consent)


def in_the_way(session: Session, prepared: Prepared, request: ImportRequest) -> list[Reason]:
    """What an import would stop at, as it was asked for."""
    consent = request.consent(prepared)
    return reasons_for(session, prepared.docket, prepared.opened, prepared.contents, consent, prepared.agreed)


def refuse(docket: Docket, reasons: Sequence[Reason]) -> None:
    """NotReady while anything is in the way; all of it is told."""
    if not reasons:
        return
    first = reasons[0]
    details = list(first.details)
    for other in reasons[1:]:
        details += [f"Also: {other.message}", *(f"  {line}" for line in other.details)]
    # A package that is not trusted is refused as a damaged one is: with the same exit code, so that a script needs
    # one branch only.
    if first.why is Why.POLICY:
        raise PackageDamaged(first.message, details=details, next_step=first.next_step)
    raise NotReady(
        f"{docket.title} can't go to {docket.target} as it stands; nothing was touched. {first.message}"
        if docket.actions
        else f"{docket.package} can't be withdrawn from {docket.target}; nothing was touched. {first.message}",
        subject=first.subject or None,
        details=details,
        next_step=first.next_step,
    )


def agreed(reasons: Sequence[Reason]) -> list[Reason]:
    """The reasons without those that a person at a terminal can agree to on the spot."""
    return [reason for reason in reasons if reason.why is not Why.CONSENT]


def _why_not(one: Agreement) -> str:
    return f"{one.words}: whoever imports can't agree to it" if one.counts else one.words


def _region_of(opened: Opened) -> str:
    return opened.description.region or opened.entry.region


def _bound(session: Session, docket: Docket, opened: Opened, contents: Contents | None) -> dict[Key, str]:
    """The items with data of a region that the workspace keeps there, where the target is in another one: items that
    say so themselves, and rows of a source that is in such a region."""
    stay, region = session.workspace.stay, _region_of(opened)
    if not stay or contents is None:
        return {}
    found: dict[Key, str] = {}
    for action in docket.actions:
        sheet = opened.description.sheets.get(action.item.kind)
        if action.do is not Do.LEAVE and sheet is not None and sheet.has_region:
            for one in region_values(action.item.form, sheet):
                if one in stay and one != region:
                    found[action.key] = one
    if docket.records:
        home = _home_of(session, contents)
        if home is None or (home in stay and home != region):
            words = f"its region, and nobody here knows that of {contents.source}" if home is None else home
            found |= dict.fromkeys(docket.records, words)
    return found


def _home_of(session: Session, contents: Contents) -> str | None:
    """The region that a package's source is in; None where nobody here knows that source."""
    entry = session.workspace.environments.get(contents.source)
    if entry is None:
        return None
    try:
        opened = session.open(entry.name)
    except AmphoraError:
        # Perhaps not reachable: then what is remembered counts.
        return entry.region if session.ledger.exports.sources().get(contents.source_uid) == entry.name else None
    # By uid: in another workspace another environment may bear that name.
    return _region_of(opened) if opened.description.uid == contents.source_uid else None


def _policy(session: Session, contents: Contents | None) -> str:
    """What the workspace's policies say against this package."""
    if contents is None or not session.workspace.is_signature_required:
        return ""
    # Here and not above: the cryptography library costs a fifth of a start, and most workspaces require no signature.
    from amphora.files.signatures import require_signature

    try:
        require_signature(contents, session.workspace.keys)
    except AmphoraError as error:
        return error.message
    return ""


def refuse_not_permitted(opened: Opened, steps: Sequence[Step], subject: str, what: str = "") -> None:
    """NotReady where the signed-in account may not do what some steps take, for `what` they are in words."""
    identity = opened.environment.whoami()
    # By name and not one by one: whoever asks for a permission asks for it once.
    wanted = permissions_of(steps, opened.description.sheets)
    if missing := sorted(not_permitted(wanted, identity.permissions, identity.lacks)):
        raise NotReady(
            f"{identity.account} may not {', '.join(missing)} in {opened.name}{what}; nothing was touched.",
            subject=subject,
            next_step=advice("Sign in with another account, or ask for the permission."),
        )
