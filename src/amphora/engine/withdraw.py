"""Withdrawing: a docket that retires everything that a package alone brought into an environment."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from amphora.core.plan.claims import Claims
from amphora.core.plan.docket import Docket, Leg, Parting
from amphora.core.plan.order import import_steps
from amphora.core.plan.reasons import Consent
from amphora.core.values.errors import UsageFault
from amphora.core.values.model import Contents
from amphora.core.values.next_step import to_type
from amphora.core.values.versions import newest
from amphora.engine.docket import Prepared, leaks_of
from amphora.engine.edits import edited_keys
from amphora.engine.gate import reasons_for, refuse
from amphora.engine.retirement import retirements_of
from amphora.engine.runs.forwards import carry_out
from amphora.engine.runs.outcome import Outcome
from amphora.engine.runs.stage import stage_of
from amphora.engine.session import Session
from amphora.engine.sides import own_side
from amphora.environments.contract import habits_of


def withdrawal(
    session: Session,
    package: str,
    environment: str,
    fates: Mapping[str, str],
    words: tuple[tuple[str, ...], ...] = (),
) -> Prepared:
    """The docket of retiring everything in an environment that a package alone claims; what was there before it, or
    was handed over, is let go. Refused where items that stay use something of it. `words` is how it was asked for."""
    opened = session.open(environment)
    side = own_side(opened, session.ledger, session.crosswalk)
    claims = Claims(session.ledger.claims(side.uid))
    mine = claims.of(package)
    if not mine:
        known = sorted({claim.package for claim in claims.rows})
        raise UsageFault(
            f"No package {package!r} claims anything in {environment}.",
            subject=package,
            details=[f"packages that do: {', '.join(known) or 'none'}"],
            next_step=to_type("survey", environment),
        )
    # Of all sources of that name: who withdraws a package means what they see under it.
    alone = [key for key in claims.alone(package) if key in side.by_key]
    # What was there before Amphora came is given back to whoever had it, not deleted; and what was handed over is the
    # work of those who took it.
    ours = session.ledger.journal.created(side.uid)
    stays = {key for key in alone if side.by_key[key].native_id not in ours} | claims.handed_over(alone)
    everything = {key: (Parting.LET_GO if key in stays else Parting.RETIRE).value for key in alone} | dict(fates)
    # Whoever withdraws agrees to all that is listed, and this is.
    retirements = retirements_of(session, side, alone, {}, everything, Parting.RETIRE)
    sources = sorted({claim.source_uid for claim in mine})
    docket = Docket(
        package=package,
        version=newest(claim.version for claim in mine),
        source_uid=sources[0],
        package_digest="",
        target=environment,
        target_uid=side.uid,
        ledger_uid=session.ledger.uid(),
        actions=(),
        bindings=side.names,
        mapped=(),
        findings=(),
        fingerprint="",
        words=words,
        retirements=tuple(retirements),
        legs=(Leg((), tuple(import_steps((), retirements, habits_of(opened.description)))),),
        unclaimed=tuple(sorted({claim.key for claim in mine} - {one.key for one in retirements})),
        other_sources=tuple(sources[1:]),
        edited_there=tuple(edited_keys(session, environment, alone)),
    )
    docket = replace(docket, leaks=leaks_of(session, docket, side, {}))
    prepared = Prepared(docket, side, opened, Contents(package, docket.version, "", sources[0], {}, ()))
    refuse(docket, reasons_for(session, docket, opened, None, Consent(is_reviewed=True)))
    return prepared


def withdraw(session: Session, prepared: Prepared) -> Outcome:
    """Carries out a withdrawal: definitions and rows are kept first; claims on what others claim too are ended."""
    return carry_out(prepared.docket, stage_of(session, prepared.opened.name))
