"""Reading and writing the ledger. Every public method is one transaction."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any
from uuid import uuid4

import orjson
from sqlalchemy import Engine, bindparam, create_engine, delete, event, func, insert, select, update
from sqlalchemy.exc import DatabaseError

from amphora.core.checks.context import Claim
from amphora.core.merge.compare import Base
from amphora.core.needs.matching import Link
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Folded, Json, States
from amphora.ledger import tables as t
from amphora.ledger.records import Delivered, Delivery, Export, JournalStep, Run
from amphora.ledger.upgrades import bring_up_to_date

PORTION = 500
"""How many rows are asked for or written at once."""


class Ledger:
    """An open ledger in a SQLite file. `clock` gives RFC 3339 times in UTC."""

    def __init__(self, path: Path, clock: Callable[[], str]) -> None:
        self._clock = clock
        self._engine: Engine = create_engine(f"sqlite:///{path}")
        event.listen(self._engine, "connect", _durable)
        try:
            t.metadata.create_all(self._engine)
            with self._engine.begin() as db:
                bring_up_to_date(db)
                if db.execute(select(t.facts.c.value).where(t.facts.c.name == "uid")).first() is None:
                    db.execute(insert(t.facts).values(name="uid", value=str(uuid4())))
        except DatabaseError as error:
            raise UsageFault(
                f"The ledger {path} can't be read: {error.orig}.",
                subject=str(path),
                next_step="Put it back from a backup; it remembers what was delivered where.",
            ) from error

    def close(self) -> None:
        """Closes the file."""
        self._engine.dispose()

    def uid(self) -> str:
        """This ledger's own uid."""
        with self._engine.connect() as db:
            return str(db.execute(select(t.facts.c.value).where(t.facts.c.name == "uid")).scalar_one())

    def links(self, uid: str | None = None) -> list[Link]:
        """All links, or those into one environment."""
        query = select(t.links) if uid is None else select(t.links).where(t.links.c.uid == uid)
        with self._engine.connect() as db:
            return [Link(row.key, row.uid, row.native_id, json.loads(row.inner)) for row in db.execute(query)]

    def record_links(self, links: Iterable[Link], addresses: Mapping[str, str]) -> None:
        """Remembers which native id is which item; `addresses` gives the link of a native id."""
        with self._engine.begin() as db:
            rows = [
                {
                    "key": link.key,
                    "uid": link.uid,
                    "native_id": link.native_id,
                    "inner": _dump(dict(link.inner)),
                    "link": addresses.get(link.native_id, ""),
                }
                for link in links
            ]
            if rows:
                this = t.links.c.uid == bindparam("of_uid")
                old = [{"of_uid": r["uid"], "of_key": r["key"], "of_id": r["native_id"]} for r in rows]
                db.execute(delete(t.links).where(this, t.links.c.key == bindparam("of_key")), old)
                db.execute(delete(t.links).where(this, t.links.c.native_id == bindparam("of_id")), old)
                db.execute(insert(t.links), rows)

    def exports(self, package: str | None = None) -> list[Export]:
        """Recorded exports, the latest last."""
        query = select(t.exports).order_by(t.exports.c.id)
        if package is not None:
            query = query.where(t.exports.c.package == package)
        with self._engine.connect() as db:
            return [
                Export(
                    r.at,
                    r.environment,
                    r.package,
                    r.version,
                    r.contents_digest,
                    r.package_digest,
                    r.file,
                    r.layout_digest,
                )
                for r in db.execute(query)
            ]

    def exported_forms(self, uid: str, keys: Collection[Key]) -> dict[Key, tuple[Json, States]]:
        """The form and states in which each of these items of an environment was last exported."""
        join = t.exported.join(t.exports)
        latest = select(t.exported.c.key, func.max(t.exported.c.export_id).label("latest")).select_from(join)
        mine = latest.where(t.exports.c.uid == uid).group_by(t.exported.c.key).subquery()
        is_last = (t.exported.c.key == mine.c.key) & (t.exported.c.export_id == mine.c.latest)
        query = select(t.exported).join(mine, is_last)
        return {
            row.key: (orjson.loads(row.form), States.from_json(json.loads(row.states)))
            for row in self._rows_of(query, t.exported.c.key, keys)
        }

    def last_forms(self, uid: str, keys: Collection[Key]) -> dict[Key, Json]:
        """What each of these items was last known as in an environment: exported from there, else delivered."""
        known = {key: delivery.merged for key, delivery in self.last_deliveries(uid, keys).items()}
        return known | {key: form for key, (form, _) in self.exported_forms(uid, keys).items()}

    def exported_version(self, package: str, version: str) -> Iterator[tuple[Key, Json]]:
        """The forms of one exported version, one by one."""
        join = t.exported.join(t.exports)
        query = select(t.exported).select_from(join).where(t.exports.c.package == package)
        with self._engine.connect() as db:
            for row in db.execute(query.where(t.exports.c.version == version)):
                yield row.key, orjson.loads(row.form)

    def _rows_of(self, query: Any, column: Any, keys: Collection[Key]) -> Iterator[Any]:
        """The rows of a query for these keys, asked for in portions that every database takes."""
        wanted = sorted(keys)
        with self._engine.connect() as db:
            for start in range(0, len(wanted), PORTION):
                yield from db.execute(query.where(column.in_(wanted[start : start + PORTION])))

    def record_export(self, contents: Contents, package_digest: str, file: str) -> None:
        """Remembers an export, with every form: the base when something comes back to its source."""
        with self._engine.begin() as db:
            row = {"at": self._clock(), "environment": contents.source, "uid": contents.source_uid}
            row |= {"package": contents.name, "version": contents.version, "file": file}
            row |= {"contents_digest": contents.digest(), "package_digest": package_digest}
            row |= {"layout_digest": contents.layout_digest()}
            [export_id] = db.execute(insert(t.exports).values(**row)).inserted_primary_key or [None]
            items = list(contents.items.values())
            for start in range(0, len(items), PORTION):
                some = items[start : start + PORTION]
                forms = [(item.form_bytes.decode(), _dump(item.states.to_json())) for item in some]
                rows = zip(some, forms, strict=True)
                db.execute(
                    insert(t.exported),
                    [{"export_id": export_id, "key": i.key, "form": form, "states": s} for i, (form, s) in rows],
                )

    def begin_run(
        self,
        environment: str,
        uid: str,
        package: str,
        version: str,
        source_uid: str,
        package_digest: str,
        account: str,
    ) -> Run:
        """A new run, named `ENVIRONMENT-N`."""
        with self._engine.begin() as db:
            count = db.execute(select(func.count()).where(t.runs.c.environment == environment)).scalar_one()
            row = {"name": f"{environment}-{count + 1}", "environment": environment, "uid": uid, "state": "running"}
            row |= {"package": package, "version": version, "source_uid": source_uid, "account": account}
            row |= {"package_digest": package_digest, "started_at": self._clock(), "note": ""}
            db.execute(insert(t.runs).values(**row))
        return self.run(row["name"])

    def end_run(self, run: Run, state: str, note: str = "") -> Run:
        """Closes a run with its state: `done`, `put back` or `broken off`."""
        with self._engine.begin() as db:
            change = {"state": state, "ended_at": self._clock(), "note": note}
            db.execute(update(t.runs).where(t.runs.c.id == run.id).values(**change))
        return self.run(run.name)

    def runs(self) -> list[Run]:
        """All runs, the latest first."""
        with self._engine.connect() as db:
            return [_run(row) for row in db.execute(select(t.runs).order_by(t.runs.c.id.desc()))]

    def run(self, name: str) -> Run:
        """A run by name, `last` for the latest; UsageFault where there is none."""
        runs = self.runs()
        for run in runs:
            if name in ("last", run.name):
                return run
        raise UsageFault(
            f"There is no run {name!r}.",
            subject=name,
            details=[f"latest: {', '.join(run.name for run in runs[:5])}"] if runs else (),
            next_step="amphora history",
        )

    def begin_step(self, run: Run, number: int, do: str, keys: Iterable[Key], intent: Json) -> None:
        """Journals what is about to be done."""
        with self._engine.begin() as db:
            row = {"run_id": run.id, "number": number, "do": do, "keys": _dump(list(keys)), "intent": _dump(intent)}
            db.execute(insert(t.steps).values(**row, state="intended", outcome="null", at=self._clock()))

    def end_step(self, run: Run, number: int, state: str, outcome: Json) -> None:
        """Journals what became of it: `done`, `failed`, `uncertain`, `put back`, `left`."""
        where = (t.steps.c.run_id == run.id) & (t.steps.c.number == number)
        with self._engine.begin() as db:
            db.execute(update(t.steps).where(where).values(state=state, outcome=_dump(outcome), at=self._clock()))

    def journal(self, run: Run) -> list[JournalStep]:
        """The steps of a run, in order."""
        query = select(t.steps).where(t.steps.c.run_id == run.id).order_by(t.steps.c.number)
        with self._engine.connect() as db:
            return [
                JournalStep(
                    r.number, r.do, tuple(json.loads(r.keys)), json.loads(r.intent), r.state, json.loads(r.outcome)
                )
                for r in db.execute(query)
            ]

    def created(self, uid: str) -> set[str]:
        """The native ids of what runs into an environment created; all else was there before."""
        join = t.steps.join(t.runs)
        query = select(t.steps.c.outcome).select_from(join).where(t.runs.c.uid == uid)
        with self._engine.connect() as db:
            outcomes = [json.loads(row.outcome) or {} for row in db.execute(query)]
        return {native_id for outcome in outcomes for native_id in outcome.get("created", ())}

    def record_deliveries(self, run: Run, deliveries: Iterable[Delivery], custody: str) -> None:
        """Remembers what a run brought, and makes the claims."""
        with self._engine.begin() as db:
            for delivery in deliveries:
                base = delivery.base
                same = {"package": delivery.package, "source_uid": delivery.source_uid, "key": delivery.key}
                row = {**same, "uid": run.uid, "run_id": run.id, "at": self._clock(), "version": delivery.version}
                row |= {"native_id": delivery.native_id, "form": base.form_bytes.decode()}
                row |= {"states": _dump(base.states.to_json()), "bindings": _dump(dict(base.bindings))}
                row |= {"merged": _dump(delivery.merged), "merged_states": _dump(delivery.merged_states.to_json())}
                db.execute(insert(t.deliveries).values(**row))
                claim = {**same, "uid": run.uid}
                db.execute(delete(t.claims).where(*(t.claims.c[name] == value for name, value in claim.items())))
                db.execute(insert(t.claims).values(**claim, custody=custody))

    def forget(self, run: Run) -> None:
        """Takes back what a run recorded: its deliveries, the claims that rested on them alone, and the
        links of items that it created."""
        with self._engine.begin() as db:
            mine = db.execute(select(t.deliveries).where(t.deliveries.c.run_id == run.id)).all()
            db.execute(delete(t.deliveries).where(t.deliveries.c.run_id == run.id))
            for row in mine:
                same = (t.deliveries.c.uid == run.uid, t.deliveries.c.key == row.key)
                if db.execute(select(t.deliveries.c.id).where(*same, t.deliveries.c.package == row.package)).first():
                    continue
                claim = (t.claims.c.uid == run.uid, t.claims.c.key == row.key, t.claims.c.package == row.package)
                db.execute(delete(t.claims).where(*claim))
                if not db.execute(select(t.deliveries.c.id).where(*same)).first():
                    db.execute(delete(t.links).where(t.links.c.uid == run.uid, t.links.c.key == row.key))

    def last_deliveries(self, uid: str, keys: Collection[Key] | None = None) -> dict[Key, Delivery]:
        """The latest delivery of each of these items (of all, if none are named) into an environment,
        whichever package brought it."""
        latest = select(func.max(t.deliveries.c.id)).where(t.deliveries.c.uid == uid).group_by(t.deliveries.c.key)
        query = select(t.deliveries).where(t.deliveries.c.id.in_(latest))
        if keys is not None:
            return {row.key: _delivery(row) for row in self._rows_of(query, t.deliveries.c.key, keys)}
        with self._engine.connect() as db:
            return {row.key: _delivery(row) for row in db.execute(query)}

    def end_claims(self, uid: str, package: str, source_uid: str, keys: Iterable[Key]) -> None:
        """Ends a package's claims on items of an environment: they were retired, withdrawn or let go."""
        mine = (t.claims.c.uid == uid) & (t.claims.c.package == package) & (t.claims.c.source_uid == source_uid)
        with self._engine.begin() as db:
            for key in keys:
                db.execute(delete(t.claims).where(mine, t.claims.c.key == key))

    def deliveries_of(self, uid: str, key: Key) -> list[Delivered]:
        """Every delivery of one item into an environment, the latest first."""
        join = t.deliveries.join(t.runs)
        query = select(t.deliveries, t.runs.c.name, t.runs.c.account, t.runs.c.environment).select_from(join)
        query = query.where(t.deliveries.c.uid == uid, t.deliveries.c.key == key).order_by(t.deliveries.c.id.desc())
        with self._engine.connect() as db:
            return [Delivered(r.at, r.name, r.account, _delivery(r)) for r in db.execute(query)]

    def claimants(self, package: str, source_uid: str, keys: Collection[Key]) -> list[tuple[str, Key]]:
        """Where a package alone claims one of these items: (environment, item)."""
        with self._engine.connect() as db:
            names = {row.uid: row.environment for row in db.execute(select(t.runs.c.uid, t.runs.c.environment))}
        mine = (t.claims.c.package == package) & (t.claims.c.source_uid == source_uid)
        query = select(t.claims).where(mine, t.claims.c.custody == "package")
        others = {(row.uid, row.key) for row in self._rows_of(select(t.claims).where(~mine), t.claims.c.key, keys)}
        found = self._rows_of(query, t.claims.c.key, keys)
        return [(names.get(row.uid, row.uid), row.key) for row in found if (row.uid, row.key) not in others]

    def claims(self, uid: str) -> list[Claim]:
        """Who claims which item of an environment, with the version that was delivered last by each."""
        latest = select(func.max(t.deliveries.c.id)).where(t.deliveries.c.uid == uid)
        latest = latest.group_by(t.deliveries.c.key, t.deliveries.c.package, t.deliveries.c.source_uid)
        columns = (t.deliveries.c.key, t.deliveries.c.package, t.deliveries.c.source_uid, t.deliveries.c.version)
        query = select(t.claims).where(t.claims.c.uid == uid).order_by(t.claims.c.key, t.claims.c.package)
        with self._engine.connect() as db:
            rows = db.execute(select(*columns).where(t.deliveries.c.id.in_(latest)))
            versions = {(row.key, row.package, row.source_uid): row.version for row in rows}
            return [
                Claim(r.key, r.package, r.source_uid, versions.get((r.key, r.package, r.source_uid), ""), r.custody)
                for r in db.execute(query)
            ]

    def delivered(self, run: Run) -> list[Delivery]:
        """What a run brought."""
        query = select(t.deliveries).where(t.deliveries.c.run_id == run.id).order_by(t.deliveries.c.id)
        with self._engine.connect() as db:
            return [_delivery(row) for row in db.execute(query)]


def _durable(connection: Any, _record: Any) -> None:
    connection.execute("pragma journal_mode = wal")
    connection.execute("pragma synchronous = full")
    connection.execute("pragma foreign_keys = on")


def _dump(value: Json) -> str:
    return json.dumps(value, ensure_ascii=False, sort_keys=True)


def _run(row: Any) -> Run:
    return Run(
        row.id,
        row.name,
        row.environment,
        row.uid,
        row.package,
        row.version,
        row.account,
        row.state,
        row.started_at,
        row.ended_at,
        row.note,
    )


def _delivery(row: Any) -> Delivery:
    states = States.from_json(json.loads(row.states))
    return Delivery(
        row.key,
        row.native_id,
        row.package,
        row.source_uid,
        row.version,
        Base(Folded(row.form.encode()), states, json.loads(row.bindings)),
        json.loads(row.merged),
        States.from_json(json.loads(row.merged_states)),
    )
