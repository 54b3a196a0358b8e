"""Carrying out a docket: each step journalled before and after; on failure everything is put back."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from amphora.core.form.bindings import Bindings
from amphora.core.form.native import to_native
from amphora.core.form.spots import mask_secrets
from amphora.core.merge.compare import Base
from amphora.core.needs.crosswalk import MapState
from amphora.core.needs.matching import Link
from amphora.core.plan.docket import Action, Do, Docket, Fate, Step, StepDo, plan_steps
from amphora.core.values.canon import digest
from amphora.core.values.errors import (
    AmphoraError,
    BrokenOff,
    EnvironmentRefused,
    Interrupted,
    NotReady,
    PackageDamaged,
    Uncertain,
)
from amphora.core.values.keys import Key, decode_segment, path_of
from amphora.core.values.model import Json, Listed
from amphora.core.values.raw import Raw, chunks_of
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.core.values.tokens import parse_token, render_text, tokens_in
from amphora.engine.session import Listener, Opened
from amphora.environments.contract import Environment, Write, Written
from amphora.ledger.ledger import Ledger
from amphora.ledger.records import Delivery, JournalStep, Run

WRITING = (StepDo.CREATE, StepDo.CREATE_BARE, StepDo.UPDATE, StepDo.WRITE_ALL)
UNCERTAIN = ("uncertain", "intended")
"""States of a journalled step of which nobody knows whether it took effect."""


@dataclass(frozen=True)
class Outcome:
    """What became of a run. `links` gives, per item, its new address; `failure` what went wrong if the
    run was put back or broke off; `left` names items that could not be put back."""

    run: Run
    written: int
    links: Mapping[Key, str]
    failure: AmphoraError | None = None
    left: tuple[str, ...] = ()


Keeper = Callable[[str, Key, Json, Iterator[Json]], str]
"""Keeps what is retired, in the run's folder: run, item, images, rows; gives the path."""


def forget_nothing(run: str, key: Key, images: Json, rows: Iterator[Json]) -> str:
    """The keeper of a run that has no folder: it refuses, so that nothing is lost."""
    raise NotReady(f"There is no folder to keep {key} in; it was not retired.", subject=key)


def carry_out(
    docket: Docket, opened: Opened, ledger: Ledger, listener: Listener, keep: Keeper = forget_nothing
) -> Outcome:
    """Carries out a decided docket in one leg."""
    account = opened.environment.whoami().account
    package = (docket.package, docket.version, docket.source_uid, docket.package_digest)
    run = ledger.begin_run(opened.name, docket.target_uid, *package, account)
    return _Carrier(docket, opened, ledger, run, listener, keep).go()


@dataclass
class _Carrier:
    docket: Docket
    opened: Opened
    ledger: Ledger
    run: Run
    listener: Listener
    keep: Keeper
    written: dict[Key, Written] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.retiring = {one.key: one.present for one in self.docket.retirements}
        self.environment: Environment = self.opened.environment
        self.actions = {action.key: action for action in self.docket.actions}
        self.names = _with_secrets(self.docket)

    def go(self) -> Outcome:
        capabilities = self.opened.description.capabilities
        steps = plan_steps(self.docket, capabilities.is_atomic, capabilities.writes_states)
        for number, step in enumerate(steps, 1):
            self.listener(f"{step.do} in {self.docket.target}", number, len(steps))
            try:
                self._journalled(number, step)
            except AmphoraError as error:
                return self._broken(error)
            except KeyboardInterrupt:
                return self._broken(Interrupted("It was interrupted."))
        self._record()
        run = self.ledger.end_run(self.run, "done")
        links = {key: written.link for key, written in self.written.items()}
        return Outcome(run, len(self.written), links)

    def _journalled(self, number: int, step: Step) -> None:
        present = [native_id for key in step.keys if (native_id := self._native_id(key))]
        token = f"{self.run.name}/{number}"
        writes = [self._rendered(key, step, f"{token}/{key}") for key in step.keys] if step.do in WRITING else []
        intent = {
            "token": token,
            "images": self.environment.images(present),
            "chosen": self._chosen(step),
            "ours": self._recognisable(present, writes),
        }
        self.ledger.begin_step(self.run, number, step.do, step.keys, intent)
        try:
            outcome = self._write(step, writes) if writes else self._set_state(step)
        except Uncertain as error:
            self.ledger.end_step(self.run, number, "uncertain", {"created": [], "error": error.message})
            raise
        except AmphoraError as error:
            self.ledger.end_step(self.run, number, "failed", {"created": [], "error": error.message})
            raise
        except KeyboardInterrupt:
            self.ledger.end_step(self.run, number, "uncertain", {"created": [], "error": "interrupted"})
            raise
        self.ledger.end_step(self.run, number, "done", outcome)

    def _chosen(self, step: Step) -> list[str]:
        """The ids that new items will have, where we choose them: known before the call is answered."""
        if not self.opened.description.capabilities.keeps_ids:
            return []
        return [str(self.names.values[key]) for key in step.keys if self._native_id(key) is None]

    def _native_id(self, key: Key) -> str | None:
        if key in self.written:
            return self.written[key].native_id
        present = self.actions[key].present if key in self.actions else self.retiring.get(key)
        return present.native_id if present else None

    def _recognisable(self, present: Sequence[str], writes: Sequence[Write]) -> list[str]:
        """Digests of the definitions before and after a step: whatever else is found later isn't ours."""
        sheets = self.opened.description.sheets
        before = [digest(found.definition) for found in self.environment.read(present, "draft")]
        return before + [digest(mask_secrets(write.definition, sheets[write.kind])) for write in writes]

    def _set_state(self, step: Step) -> Json:
        [key] = step.keys
        if step.do is StepDo.RETIRE:
            return self._retire(key)
        if step.do is StepDo.PUBLISH:
            self.environment.publish(self._here(key))
        elif step.do is StepDo.LOAD:
            count = self.environment.load(self._here(key), _rows(self.docket.records[key]))
            return {"created": [], "rows": count, "revisions": self._revisions([self._here(key)])}
        else:
            self.environment.switch(self._here(key), bool(self.actions[key].states.is_on))
        return {"created": [], "revisions": self._revisions([self._here(key)])}

    def _retire(self, key: Key) -> Json:
        """Keeps definition and rows in the run's folder, then removes the item."""
        row = self.retiring[key]
        kept = self.keep(self.run.name, key, self.environment.images([row.native_id]), self._all_rows(row))
        self.environment.retire([row.native_id])
        return {"created": [], "retired": [row.native_id], "kept": kept, "revisions": {}}

    def _all_rows(self, row: Listed) -> Iterator[Json]:
        if row.rows and self.opened.description.capabilities.has_rows:
            yield from self.environment.records(row.native_id)

    def _here(self, key: Key) -> str:
        native_id = self._native_id(key)
        if native_id is None:
            raise EnvironmentRefused(f"{key} is not in {self.docket.target}.", subject=key)
        return native_id

    def _write(self, step: Step, writes: list[Write]) -> Json:
        created = [key for key in step.keys if self._native_id(key) is None]
        written = self._written(writes)
        for key, one in zip(step.keys, written, strict=True):
            self.written[key] = one
            self.names.bind(key, one.native_id)
        ids = [self.written[key].native_id for key in created]
        return {"created": ids, "revisions": self._revisions([one.native_id for one in written])}

    def _written(self, writes: list[Write]) -> list[Written]:
        """Writes; where no answer came, asks the environment whether it took effect."""
        try:
            return self.environment.write(writes)
        except Uncertain:
            answered = [self.environment.answered(write.token) for write in writes if write.is_new]
            if len(writes) == 1 and len(answered) == 1 and answered[0]:
                return [answered[0]]
            raise

    def _revisions(self, native_ids: Collection[str]) -> dict[str, str]:
        found = self.environment.read(list(native_ids), "draft")
        return {one.listed.native_id: one.listed.revision for one in found}

    def _rendered(self, key: Key, step: Step, token: str) -> Write:
        action = self.actions[key]
        sheet = self.opened.description.sheets.get(action.item.kind)
        if sheet is None:
            raise EnvironmentRefused(
                f"{self.docket.target} knows no items of kind {action.item.kind!r}.", subject=key
            )
        native_id = self._native_id(key)
        present = self.environment.read([native_id], "draft")[0] if native_id else None
        form = without(action.form, set(step.later)) if step.later else action.form
        native = to_native(
            form,
            sheet,
            self.names,
            inner=self.names.inner.get(key),
            layout=action.item.layout,
            present=present.definition if present else None,
            files=self.docket.files,
        )
        if native.missing:
            place, missing = native.missing[0]
            raise NotReady(f"{missing} has no value in {self.docket.target}.", subject=key, place=place)
        keeps_ids = self.opened.description.capabilities.keeps_ids
        return Write(
            kind=action.item.kind,
            segments=tuple(decode_segment(part) for part in path_of(key).split("/")),
            states=action.states,
            definition=native.definition,
            token=token,
            native_id=native_id or (self.names.values.get(key) if keeps_ids else None),
            revision=self._revision_seen(key, present.listed.revision if present else None),
        )

    def _revision_seen(self, key: Key, now: str | None) -> str | None:
        present = self.actions[key].present
        return present.revision if present and key not in self.written else now

    def _broken(self, error: AmphoraError) -> Outcome:
        left = put_back(self.run, self.environment, self.ledger)
        state = "broken off" if left else "put back"
        run = self.ledger.end_run(self.run, state, error.message)
        if left:
            error = BrokenOff(error.message, subject=error.subject, place=error.place, details=left)
        return Outcome(run, 0, {}, error, tuple(left))

    def _record(self) -> None:
        done = [action for action in self.docket.actions if action.do in (Do.CREATE, Do.UPDATE, Do.LEAVE)]
        ids = {action.key: self._here(action.key) for action in done}
        names = self.docket.bindings
        links = [
            Link(action.key, self.docket.target_uid, ids[action.key], names.inner.get(action.key, {}))
            for action in done
        ]
        addresses = {written.native_id: written.link for written in self.written.values()}
        addresses |= {a.present.native_id: a.present.link for a in done if a.present}
        self.ledger.record_links(links, addresses)
        deliveries = [_delivery(action, ids[action.key], self.docket) for action in done]
        self.ledger.record_deliveries(self.run, deliveries, self.docket.custody)
        ended = [one.key for one in self.docket.retirements if one.fate is not Fate.STAY]
        package = (self.docket.package, self.docket.source_uid)
        self.ledger.end_claims(self.docket.target_uid, *package, ended)


def put_back(run: Run, environment: Environment, ledger: Ledger) -> list[str]:
    """Undoes the steps of a run, last first. What somebody else changed since is left alone and named,
    as is what the environment would not let us put back."""
    left: list[str] = []
    expected: dict[str, str] = {}
    journal = ledger.journal(run)
    for step in journal:
        expected |= (step.outcome or {}).get("revisions", {})
    for step in reversed(journal):
        if step.state not in ("done", *UNCERTAIN, "left"):
            continue
        if step.do == StepDo.RETIRE and (step.outcome or {}).get("retired"):
            kept = step.outcome["kept"]
            left.append(f"{', '.join(step.keys)} was retired and can't be put back; it is kept in {kept}")
            ledger.end_step(run, step.number, "left", step.outcome)
            continue
        try:
            names = _undo(step, environment, expected, run.account)
        except AmphoraError as error:
            names = [f"{', '.join(step.keys)}: {error.message}"]
        ledger.end_step(run, step.number, "left" if names else "put back", step.outcome)
        left += names
    return list(dict.fromkeys(left))


def _undo(step: JournalStep, environment: Environment, expected: dict[str, str], account: str) -> list[str]:
    """Undoes one step. A step without an outcome may itself have moved the revision: there the account
    that changed the item last tells whether it was us, or a definition that is the one before or after."""
    now = {row.native_id: row for row in environment.index()}
    made = _perhaps_made(step, environment) if step.state in UNCERTAIN else step.outcome["created"]
    created = [id_ for id_ in made if id_ in now]
    images = [image for image in step.intent["images"] if image["id"] in now]
    touched = [*created, *(image["id"] for image in images)]
    moved = {id_ for id_ in touched if id_ in expected and now[id_].revision != expected[id_]}
    if step.state in UNCERTAIN:
        found = {one.listed.native_id: digest(one.definition) for one in environment.read(sorted(moved), "draft")}
        ours = step.intent["ours"]
        moved = {id_ for id_ in moved if now[id_].modified_by != account and found[id_] not in ours}
    environment.put_back(
        [image for image in images if image["id"] not in moved], [id_ for id_ in created if id_ not in moved]
    )
    after = {row.native_id: row.revision for row in environment.index()}
    expected |= {id_: after[id_] for id_ in touched if id_ in after and id_ not in moved}
    return [f"{now[i].states.title!r} was changed meanwhile by {now[i].modified_by or 'somebody'}" for i in moved]


def _perhaps_made(step: JournalStep, environment: Environment) -> list[str]:
    """The ids of items that a step without an outcome may have created."""
    if step.intent["chosen"] or step.do not in (StepDo.CREATE, StepDo.CREATE_BARE):
        return list(step.intent["chosen"])
    answers = [environment.answered(f"{step.intent['token']}/{key}") for key in step.keys]
    return [written.native_id for written in answers if written]


def _rows(raw: Raw) -> Iterator[Json]:
    """The rows of JSON Lines, one by one."""
    rest = b""
    try:
        for piece in chunks_of(raw):
            *lines, rest = (rest + piece).split(b"\n")
            yield from (parse_json(line) for line in lines if line)
        if rest:
            yield parse_json(rest)
    except JsonFault as error:
        raise PackageDamaged(f"Its rows can't be read: {error}.", next_step="Export the package again.") from error


def without(form: Json, keys: Collection[Key]) -> Json:
    """A form without its references to the given items: null for whole values, nothing inside texts."""
    if isinstance(form, dict):
        return {name: without(part, keys) for name, part in form.items()}
    if isinstance(form, list):
        return [without(part, keys) for part in form]
    if not isinstance(form, str):
        return form
    gone = {token for token, _ in tokens_in(form) if (parsed := parse_token(token)) and parsed.key in keys}
    if not gone:
        return form
    keep: Callable[[str], Any] = lambda token: "" if token in gone else "${" + token + "}"  # noqa: E731
    return None if parse_token(form) else render_text(form, keep)


def _with_secrets(docket: Docket) -> Bindings:
    """A copy of the docket's bindings to which created ids are added, with the secrets that the crosswalk
    points to read from where they are kept; nothing of it is ever stored."""
    names = replace(docket.bindings, values=dict(docket.bindings.values))
    for one in docket.mapped:
        if one.need.kind == "secret" and one.state is MapState.MAPPED:
            source, _, variable = str(one.value).partition(":")
            if source == "env" and (value := os.environ.get(variable)):
                names.bind(one.need.key, value)
    return names


def _delivery(action: Action, native_id: str, docket: Docket) -> Delivery:
    used = {parsed.key for place in action.item.places if (parsed := parse_token(place.token))}
    bindings = {
        one.need.key: one.native for one in docket.mapped if one.need.key in used and one.need.kind != "secret"
    }
    base = Base(action.item.form, action.item.states, bindings)
    package = (docket.package, docket.source_uid, docket.version)
    return Delivery(action.key, native_id, *package, base, action.form, action.states)
