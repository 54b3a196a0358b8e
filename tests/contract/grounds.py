"""Two grounds on which the same contract is tried: each a source, a target, and things to move."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from amphora.core.needs.crosswalk import SECTIONS, row_name
from amphora.core.values.keys import Key
from amphora.core.values.model import States
from amphora.engine.docket import Prepared, prepare
from amphora.engine.export import ExportReport, ExportRequest, export
from amphora.engine.imports import import_prepared
from amphora.engine.runs.outcome import Outcome
from amphora.engine.session import Session
from amphora.engine.sides import own_side, read_items
from amphora.environments.contract import Publishes, Seen, Write
from amphora.files.crosswalk_file import Cell
from amphora.files.package import read_package
from amphora.files.workspace import read_workspace

Definition = Any


@dataclass
class Ground:
    """A workspace with a source and a target of one adapter. Its things to move are of the kind `kind`; whatever one
    likes may be written in a definition, or in its member `within`, and ids of others of the kind in `partners`."""

    folder: Path
    source: str
    target: str
    asked: str
    renamed: Key
    setting: str
    empty_target: Callable[[], None]
    kind: str = "flow"
    within: str = ""
    partners: str = "partner"

    def __post_init__(self) -> None:
        self.sessions: list[Session] = []

    def session(self) -> Session:
        """A new session, as every command has one."""
        self.sessions.append(Session(read_workspace(self.folder)))
        return self.sessions[-1]

    def close(self) -> None:
        for session in self.sessions:
            session.close()

    def laid(self, definition: Definition, **members: Any) -> Definition:
        """A definition with some members more."""
        if not self.within:
            return {**definition, **members}
        return {**definition, self.within: {**definition[self.within], **members}}

    def with_partner(self, definition: Definition, native_id: str) -> Definition:
        """A definition that uses another item."""
        return self.laid(definition, **{self.partners: [native_id] if self.within else native_id})

    def told(self, name: str, key: Key) -> Any:
        """What was laid into an item, as an environment has it now, in portable form."""
        form = self.state(name)[key][0]
        return form[self.within] if self.within else form

    def place(self, member: str) -> str:
        """Where a member is that was laid into a definition."""
        return f"/{self.within}/{member}" if self.within else f"/{member}"

    def export(
        self, wanted: Sequence[str] = (), source: str = "", name: str = "moved", **options: Any
    ) -> ExportReport:
        """Exports what this ground moves, or what is wanted."""
        return export(self.session(), ExportRequest(source or self.source, wanted or [self.asked], name, **options))

    def cells(self, report: ExportReport) -> list[Cell]:
        """The crosswalk rows of a package's needs as they are in its source."""
        rows = self.session().crosswalk
        return [
            Cell(SECTIONS[need.kind], row_name(need.key), self.source, rows.value(need.key, self.source))
            for need in report.contents.needs
            if need.kind in SECTIONS and rows.value(need.key, self.source) is not None
        ]

    def prepare(self, report: ExportReport, session: Session | None = None) -> Prepared:
        """The docket of bringing it into the target."""
        return prepare(session or self.session(), read_package(report.path), self.target)

    def bring(self, report: ExportReport) -> tuple[Prepared, Outcome]:
        """Prepares, imports and expects everything to be as promised."""
        session = self.session()
        prepared = self.prepare(report, session)
        assert not prepared.docket.errors, prepared.docket.errors
        assert all(one.native is not None for one in prepared.docket.mapped if one.need.kind != "secret")
        outcome, verified = import_prepared(session, prepared)
        assert outcome.failure is None
        assert all(one.is_as_promised for one in verified), verified
        return prepared, outcome

    def state(self, name: str) -> dict[Key, tuple[Any, States]]:
        """The portable form and states of everything in an environment."""
        session = self.session()
        side = own_side(session.open(name), session.ledger, session.crosswalk)
        delivered = session.ledger.last_deliveries(side.uid)
        bases = {key: replace(d.base, _form=d.merged) for key, d in delivered.items()}
        items, _, _ = read_items(side, side.by_key, bases=bases)
        return {key: (item.form, item.states) for key, item in items.items()}

    def change(
        self, name: str, key: Key, edit: Callable[[Definition], Definition] | None = None, **states: Any
    ) -> None:
        """Somebody edits an item in an environment: its definition, title or folder."""
        session = self.session()
        side = own_side(session.open(name), session.ledger, session.crosswalk)
        environment, row = side.opened.environment, side.by_key[key]
        [found] = environment.read([row.native_id])
        definition = edit(found.definition) if edit else found.definition
        write = Write(
            row.kind, row.segments, replace(row.states, **states), definition, "edit", row.native_id, row.revision
        )
        [written] = environment.write([write])
        if row.states.is_published and isinstance(environment, Publishes):
            environment.publish(Seen(row.native_id, written.revision))
