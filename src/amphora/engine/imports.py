"""Importing: what has to be settled before anything is touched, the run, and the verification after it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import orjson

from amphora.core.needs.crosswalk import MapState, row_name
from amphora.core.needs.selection import readable
from amphora.core.plan.docket import Do, Docket, Fate
from amphora.core.values.errors import AmphoraError, BrokenOff, EnvironmentRefused, Interrupted, NotReady, UsageFault
from amphora.core.values.keys import Key, encode_segment
from amphora.core.values.model import Contents, Json
from amphora.core.values.strict_json import pretty_bytes
from amphora.engine.docket import Prepared, current_fingerprint, prepare
from amphora.engine.runs import Keeper, Outcome, carry_out, put_back
from amphora.engine.session import Session
from amphora.engine.verify import Verified, verify
from amphora.files.docket_file import DocketFile, read_docket
from amphora.files.package import find_package, read_package
from amphora.ledger.records import Run


def prepare_from_docket(session: Session, path: Path, without: Sequence[str] = ()) -> Prepared:
    """The docket that a file describes, with its decisions; NotReady where something has moved since."""
    file = read_docket(path)
    contents = read_package(find_package(f"{file.package}-{file.version}", session.workspace.packages))
    prepared = prepare(
        session,
        contents,
        file.target,
        file.choices,
        [*file.without, *without],
        base_of(session, file),
        file.fates,
        file.custody,
    )
    docket = prepared.docket
    reasons = {
        "the package is another one": contents.package_digest != file.package_digest,
        "the environment is another one": docket.target_uid != file.target_uid,
        "the ledger is another one": docket.ledger_uid != file.ledger_uid,
        "something has moved in the target or the crosswalk": docket.fingerprint != file.fingerprint,
    }
    if stale := [reason for reason, is_so in reasons.items() if is_so]:
        raise NotReady(
            f"The docket {path.name} is out of date: {', '.join(stale)}. Nothing was touched.",
            subject=str(path),
            next_step=f"amphora compare --refresh {path}",
        )
    return replace(prepared, is_reviewed=True)


def base_of(session: Session, file: DocketFile) -> Contents | None:
    """The package that served a docket as base, if one did."""
    return read_package(find_package(file.since, session.workspace.packages)) if file.since else None


def with_records(prepared: Prepared, wanted: Sequence[str]) -> Prepared:
    """The docket with the loading of rows in it, if that is wanted; UsageFault where it can't be."""
    if unknown := sorted(set(wanted) - {"records"}):
        raise UsageFault(f"--with takes records, not {unknown[0]!r}.", next_step="amphora import --help")
    if not wanted:
        return prepared
    docket, contents = prepared.docket, prepared.contents
    if not contents.records or not prepared.opened.description.capabilities.has_rows:
        where = contents.title if not contents.records else docket.target
        raise UsageFault(f"{where} holds no rows of tables.", subject=where, next_step="Leave --with records out.")
    return replace(prepared, docket=replace(docket, records=contents.records))


def refuse_unready(docket: Docket) -> None:
    """NotReady while a check has errors, a need is open or a question is unanswered."""
    name = f"{docket.package}-{docket.version}"
    if docket.errors:
        raise NotReady(
            f"{docket.title} can't go to {docket.target} yet; nothing was touched.",
            subject=docket.errors[0].item,
            details=[finding.message for finding in docket.errors],
            next_step=f"amphora check {name} {docket.target}",
        )
    to_map = [finding for finding in docket.findings if finding.rule == "need-open"]
    if to_map:
        raise NotReady(
            f"{docket.title} has {'a need' if len(to_map) == 1 else f'{len(to_map)} needs'} that {docket.target} does"
            " not know how to serve yet; nothing was touched.",
            details=[finding.message for finding in to_map],
            next_step=f"amphora map {name} {docket.target}",
        )
    if later := [one for one in docket.mapped if one.state is MapState.LATER]:
        maker = str(later[0].value)
        raise NotReady(
            f"{docket.title} would have to pause once {readable(maker)} is in {docket.target}, for"
            f" {row_name(later[0].need.key)!r} to be made there. Imports with a pause are not possible yet; nothing"
            " was touched.",
            subject=maker,
            next_step=f"Bring {readable(maker)} by itself first, make the connection there, then amphora map {name}"
            f" {docket.target}",
        )
    if blocked := [one for one in docket.fated(Fate.RETIRE) if one.users]:
        raise NotReady(
            f"{readable(blocked[0].key)} is still used in {docket.target} and can't be retired; nothing was touched.",
            subject=blocked[0].key,
            details=[f"{readable(one.key)} is used by {readable(user)}" for one in blocked for user in one.users],
            next_step="Leave it there, let it go with --let-go, or change what uses it first.",
        )
    if docket.undecided:
        raise NotReady(
            f"{docket.title} needs a decision on {'one item' if len(docket.undecided) == 1 else 'several items'};"
            " nothing was touched.",
            details=[
                f"{readable(action.key)} at {change.place}: {change.by}"
                for action in docket.undecided
                if action.comparison
                for change in action.comparison.open
            ],
            next_step=f"amphora compare {name} {docket.target} --docket {name}.{docket.target}.docket.yaml",
        )


def ask_for(prepared: Prepared, yes: bool, is_terminal: bool, take_over: Sequence[str] = ()) -> str:
    """The question to ask before going on, empty where none is needed; NotReady where it can't be asked.
    `--yes` covers items with local edits only where a docket file was read and answered, and items that
    another package claims only where that package is named in `take_over`."""
    docket = prepared.docket
    beyond = [a for a in docket.edited if a.do is Do.UPDATE and not prepared.is_reviewed]
    shared = {} if prepared.is_reviewed else _not_taken_over(docket, take_over)
    if yes and not beyond and not shared:
        return ""
    question = f"Import {docket.title} into {docket.target}: {len(docket.by(Do.CREATE))} new,"
    question += f" {len(docket.by(Do.UPDATE))} changed"
    question += f", {len(docket.edited)} with local edits that stay" if docket.edited else ""
    others = sorted({other for packages in shared.values() for other in packages})
    question += f"; {len(shared)} of them were delivered by {', '.join(others)}?" if shared else "?"
    if is_terminal:
        return question
    name = f"{docket.package}-{docket.version}"
    if shared:
        names = " ".join(f"--take-over {other.partition(' ')[0]}" for other in others)
        raise NotReady(
            f"{docket.target} has items of {docket.title} from another package, which would no longer be in force;"
            " nothing was touched.",
            details=[f"{readable(key)} is that of {', '.join(packages)}" for key, packages in sorted(shared.items())],
            next_step=f"amphora import {name} {docket.target} --yes {names}",
        )
    if beyond:
        raise NotReady(
            f"--yes does not cover items with local edits in {docket.target}; nothing was touched.",
            details=[readable(action.key) for action in beyond],
            next_step=f"amphora compare {name} {docket.target} --docket {name}.{docket.target}.docket.yaml",
        )
    raise NotReady(
        "Nobody is here to confirm the import; nothing was touched.",
        next_step=f"amphora import {docket.package} {docket.target} --yes",
    )


def _not_taken_over(docket: Docket, take_over: Sequence[str]) -> dict[Key, tuple[str, ...]]:
    return {
        key: rest
        for key, packages in docket.shared.items()
        if (rest := tuple(other for other in packages if other.partition(" ")[0] not in take_over))
    }


def import_prepared(session: Session, prepared: Prepared) -> tuple[Outcome, list[Verified]]:
    """Carries out a decided docket and verifies what came of it. A failure is in the outcome, with what
    it means for the target."""
    docket, opened = prepared.docket, prepared.opened
    if current_fingerprint(session, prepared.contents, opened) != docket.fingerprint:
        raise NotReady(
            f"Something moved in {docket.target} since the docket was made; nothing was touched.",
            subject=docket.target,
            next_step=f"amphora compare {docket.package} {docket.target}",
        )
    outcome = carry_out(docket, opened, session.ledger, session.listener, keeper(session))
    if outcome.failure:
        return replace(outcome, failure=_explained(outcome)), []
    delivered = session.ledger.delivered(outcome.run)
    return outcome, verify(session, opened.name, delivered)


def keeper(session: Session) -> Keeper:
    """Keeps what is retired in the run's folder: its definition as JSON, its rows as JSON Lines."""

    def keep(run: str, key: Key, images: Json, rows: Iterator[Json]) -> str:
        folder = session.workspace.runs / run
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / (encode_segment(key) + ".json")
        path.write_bytes(pretty_bytes(images))
        count = 0
        with path.with_suffix(".jsonl").open("wb") as file:
            for row in rows:
                file.write(orjson.dumps(row, option=orjson.OPT_SORT_KEYS | orjson.OPT_APPEND_NEWLINE))
                count += 1
        if not count:
            path.with_suffix(".jsonl").unlink()
        return str(path.relative_to(session.workspace.folder))

    return keep


def undo(session: Session, name: str) -> tuple[Run, list[str]]:
    """Puts back what a run did, and forgets its deliveries; what can't be put back is named."""
    run = session.ledger.run(name)
    if run.state in ("put back", "undone"):
        raise NotReady(f"{run.name} was put back already.", subject=run.name, next_step="amphora history")
    later = [other.name for other in session.ledger.runs() if other.uid == run.uid and other.id > run.id]
    still = [name for name in later if session.ledger.run(name).state not in ("put back", "undone")]
    if still:
        raise NotReady(
            f"{run.name} is not the latest run into {run.environment}: {', '.join(still)} came after it.",
            subject=run.name,
            next_step=f"amphora undo {still[0]}",
        )
    left = put_back(run, session.open(run.environment).environment, session.ledger)
    session.ledger.forget(run)
    return session.ledger.end_run(run, "broken off" if left else "undone", run.note), left


def is_recorded(session: Session, docket: Docket) -> bool:
    """Whether every item's latest delivery is by this very version."""
    latest = session.ledger.last_deliveries(docket.target_uid, [action.key for action in docket.actions])
    return all(
        (delivery := latest.get(action.key)) is not None
        and (delivery.package, delivery.version) == (docket.package, docket.version)
        for action in docket.actions
    )


def _explained(outcome: Outcome) -> AmphoraError:
    """The failure of a run, with what it means for the target and what to do."""
    run, error = outcome.run, outcome.failure
    assert error is not None
    if outcome.left:
        return BrokenOff(
            f"{run.name} broke off: {error.message} Not everything could be put back.",
            subject=error.subject,
            place=error.place,
            details=outcome.left,
            next_step=f"amphora undo {run.name}",
        )
    kind = Interrupted if isinstance(error, Interrupted) else EnvironmentRefused
    return kind(
        f"{run.name} failed and everything was put back: {error.message}",
        subject=error.subject,
        place=error.place,
        details=error.details,
        next_step=f"{error.next_step or 'Mend the cause'}; the run is in: amphora history {run.name}",
    )
