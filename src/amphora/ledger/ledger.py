"""Reading and writing the ledger: exports, links, deliveries, claims. Every public method is one transaction.
Runs and their journal stand beside it (`journal`), on the same database."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any
from uuid import uuid4

from amphora.core.form.filled import Filled, taken
from amphora.core.merge.compare import Base
from amphora.core.needs.matches import Link
from amphora.core.plan.aftercare import Task
from amphora.core.plan.arrivals import Arrival
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.model import Claim, Folded, Json, States
from amphora.core.values.next_step import advice
from amphora.ledger.aftercare import Aftercare
from amphora.ledger.campaigns import Campaigns
from amphora.ledger.database import MOVED, dumped, next_seq, open_database
from amphora.ledger.exports import Exports
from amphora.ledger.journal import Journal
from amphora.ledger.locks import Locks
from amphora.ledger.memory import claims_and_links, joined, restore, write_links
from amphora.ledger.parcels import Parcels
from amphora.ledger.proofs import Proofs
from amphora.ledger.records import DONE, PUT_BACK, UNDONE, Delivered, Delivery, Run

_IN_FORCE = (
    "d.void_by is null and d.id = (select max(e.id) from deliveries e where e.uid = d.uid and e.key = d.key"
    " and e.void_by is null)"
)
"""The last delivery of an item that nobody undid."""


class Ledger:
    """An open ledger, in a file or on a server. `clock` gives RFC 3339 times in UTC, `secret` is the password for
    the latter."""

    def __init__(self, place: Path | str, clock: Callable[[], str], secret: str = "") -> None:
        self._clock = clock
        self._db = open_database(place, secret)
        facts = dict(self._db.rows("select name, value from facts where name in ('uid', ?)", (MOVED,)))
        if MOVED in facts:
            self._db.close()
            raise UsageFault(
                f"The ledger {place} was taken over to {facts[MOVED]}, where it goes on; nothing was written here.",
                subject=str(place),
                next_step=advice(f'Write ledger = "{facts[MOVED]}" under [amphora] into amphora.toml.'),
            )
        if "uid" not in facts:
            with self._db.transaction():
                self._db.do("insert into facts values ('uid', ?) on conflict (name) do nothing", (str(uuid4()),))
        self.journal = Journal(self._db, clock)
        self.parcels = Parcels(self._db)
        self.campaigns = Campaigns(self._db, clock)
        self.exports = Exports(self._db, clock)
        self.aftercare = Aftercare(self._db, clock)
        self.proofs = Proofs(self._db, clock)
        self.locks = Locks(self._db, clock)

    def close(self) -> None:
        """Closes the database."""
        self._db.close()

    def uid(self) -> str:
        """This ledger's own uid."""
        return str(self._db.rows("select value from facts where name = 'uid'")[0]["value"])

    def links(self, uid: str | None = None) -> list[Link]:
        """All links, or those into one environment."""
        where, values = ("", ()) if uid is None else (" where uid = ?", (uid,))
        rows = self._db.rows(f"select * from links{where}", values)
        return [Link(row["key"], row["uid"], row["native_id"], json.loads(row["inner"])) for row in rows]

    def addresses(self, uid: str) -> dict[str, str]:
        """The links of what is known of an environment, by native id, as they were last."""
        rows = self._db.rows("select native_id, link from links where uid = ?", (uid,))
        return {row["native_id"]: row["link"] for row in rows if row["link"]}

    def record_links(self, links: Iterable[Link], addresses: Mapping[str, str]) -> None:
        """Remembers which native id is which item; `addresses` gives the link of a native id."""
        with self._db.transaction():
            write_links(self._db, links, addresses)

    def last_forms(self, uid: str, keys: Collection[Key]) -> dict[Key, Json]:
        """What each of these items was last known as in an environment, delivered or exported."""
        known = {key: delivery.merged for key, delivery in self.last_deliveries(uid, keys).items()}
        return known | {key: base.form for key, (_, base) in self.exports.forms(uid, keys).items()}

    def bases(self, uid: str, keys: Collection[Key]) -> dict[Key, Base]:
        """The base of each of these items in an environment: the later of the last delivery into it and the
        last export from it."""
        exported = self.exports.forms(uid, keys)
        found = {key: base for key, (_, base) in exported.items()}
        # Whichever was later: an older delivery would make the source's own newer edit look like somebody's change.
        for key, (seq, delivery) in self._last_deliveries(uid, keys).items():
            if key not in exported or seq > exported[key][0]:
                found[key] = delivery.base
        return found

    def finish(
        self,
        run: Run,
        state: str,
        deliveries: Iterable[Delivery] = (),
        custody: str = "package",
        links: Iterable[Link] = (),
        addresses: Mapping[str, str] | None = None,
        ended: Collection[tuple[str, str, Key]] = (),
        arrivals: Mapping[Key, Arrival] | None = None,
        omissions: Mapping[Key, bool] | None = None,
        care: Sequence[Task] = (),
        retired: Collection[Key] = (),
    ) -> Run:
        """Records what a run brought and ends it, all in one transaction. `ended` are claims that it ended:
        (package, source uid, item), `retired` the items that are gone, and with them what was to do about them. What
        claims and links were before stays with the run."""
        deliveries, links = list(deliveries), list(links)
        touched = {d.key for d in deliveries} | {link.key for link in links} | {key for _, _, key in ended}
        with self._db.transaction():
            # In the transaction that changes them: nobody else's change can slip in between.
            remembered = joined(self._before(run), claims_and_links(self._db, run.uid, touched))
            write_links(self._db, links, addresses or {})
            self._write_deliveries(run, deliveries, custody)
            query = "delete from claims where package = ? and source_uid = ? and key = ? and uid = ?"
            self._db.do_many(query, [(*claim, run.uid) for claim in ended])
            self._db.do("update runs set remembered = ? where id = ?", (dumped(remembered), run.id))
            self._write_arrivals(run, deliveries, arrivals or {})
            self._write_omissions(run, omissions or {})
            self.aftercare.moot(run, retired)
            self.aftercare.write(run, care)
            self.journal.write_end(run, state, "")
            self.parcels.drop_unused()
        return self.journal.run(run.name)

    def adopt(self, run: Run, links: Iterable[Link], addresses: Mapping[str, str]) -> None:
        """Remembers the links of what a run that stopped in its middle has made; an undo of it forgets them again."""
        links = list(links)
        with self._db.transaction():
            before = joined(self._before(run), claims_and_links(self._db, run.uid, {link.key for link in links}))
            self._db.do("update runs set remembered = ? where id = ?", (dumped(before), run.id))
            write_links(self._db, links, addresses)

    def _before(self, run: Run) -> Json:
        """The claims and links that earlier legs of a run remembered."""
        return json.loads(self._db.rows("select remembered from runs where id = ?", (run.id,))[0][0])

    def finish_leg_backwards(
        self, run: Run, of: Run, links: Iterable[Link], addresses: Mapping[str, str], note: str
    ) -> None:
        """Ends a run that put the present leg of another one back, of which nothing had been recorded yet: that one
        waits where the leg before ended."""
        with self._db.transaction():
            write_links(self._db, links, addresses)
            self.journal.write_end(run, DONE, note)
            self.journal.back_to_pause(of, note)

    def finish_backwards(
        self,
        run: Run,
        of: Run,
        kept: Collection[Key],
        links: Iterable[Link],
        addresses: Mapping[str, str],
        state: str,
        of_state: str,
        note: str,
        stays: int,
        returned: int,
    ) -> None:
        """Ends a run that put another one back, and takes back what that one had recorded: deliveries, claims,
        links; of items, too, to which nothing had to be done. About what is `kept`, because it was left or is
        not as it was, nothing is forgotten: it is still there. How many are not as they were (`stays`) and
        how many were put back (`returned`) is kept with both runs."""
        with self._db.transaction():
            remembered = self._before(of)
            now = claims_and_links(self._db, of.uid, set(remembered.get("keys", ())))
            left = set(kept)
            # Undoing an undo brings the deliveries back that it had voided; nothing is ever deleted, so that
            # `history` tells all of it.
            again = self._db.rows("select id, key from deliveries where void_by = ?", (of.id,))
            mine = self._db.rows("select id, key from deliveries where run_id = ?", (of.id,))
            void = "update deliveries set void_by = ? where id = ?"
            self._db.do_many(void, [(None, row["id"]) for row in again if row["key"] not in left])
            self._db.do_many(void, [(run.id, row["id"]) for row in mine if row["key"] not in left])
            self.aftercare.reopen(of)
            restore(self._db, of.uid, set(remembered.get("keys", ())) - left, remembered)
            write_links(self._db, links, addresses)
            self._db.do("update runs set remembered = ? where id = ?", (dumped(now), run.id))
            # Added up: what an earlier attempt put back is put back.
            counts = (stays, returned, run.id, of.id)
            self._db.do("update runs set stays = ?, returned = returned + ? where id in (?, ?)", counts)
            self.journal.write_end(run, state, note)
            self.journal.write_end(of, of_state, of.note or note)
            self.parcels.drop_unused()

    def arrivals(self, uid: str, package: str, source_uid: str) -> dict[Key, Arrival]:
        """Under which titles and in which folders items of a package are in an environment, as was said last by a run
        that is in force."""
        query = (
            "select a.key, a.title, a.folder from arrivals a join runs r on r.id = a.run_id"
            " where a.uid = ? and a.package = ? and a.source_uid = ? and r.state not in (?, ?) order by a.run_id"
        )
        rows = self._db.rows(query, (uid, package, source_uid, PUT_BACK, UNDONE))
        found = {row["key"]: Arrival(row["title"], row["folder"]) for row in rows}
        return {key: one for key, one in found.items() if one.title or one.folder}

    def omitted(self, uid: str, package: str, source_uid: str) -> set[Key]:
        """The items of a package that were left out of an environment by somebody's word, as was said last by a run
        that is in force."""
        query = (
            "select o.key, o.is_left from omissions o join runs r on r.id = o.run_id"
            " where o.uid = ? and o.package = ? and o.source_uid = ? and r.state not in (?, ?) order by o.run_id"
        )
        rows = self._db.rows(query, (uid, package, source_uid, PUT_BACK, UNDONE))
        said = {row["key"]: bool(row["is_left"]) for row in rows}
        return {key for key, is_left in said.items() if is_left}

    def _write_omissions(self, run: Run, omissions: Mapping[Key, bool]) -> None:
        if not omissions:
            return
        [[source_uid]] = [tuple(row) for row in self._db.rows("select source_uid from runs where id = ?", (run.id,))]
        # A leg of the same run may have said it before.
        self._db.do_many("delete from omissions where run_id = ? and key = ?", [(run.id, key) for key in omissions])
        rows = [(run.id, run.uid, run.package, source_uid, key, int(left)) for key, left in omissions.items()]
        self._db.do_many("insert into omissions values (?, ?, ?, ?, ?, ?)", rows)

    def _write_arrivals(self, run: Run, deliveries: Sequence[Delivery], arrivals: Mapping[Key, Arrival]) -> None:
        known = {row["key"] for row in self._db.rows("select distinct key from arrivals where uid = ?", (run.uid,))}
        # Of each item that has, or had, another title or folder than its package's: that nothing is said any more is
        # remembered as well.
        rows = [
            (run.id, run.uid, one.package, one.source_uid, one.key, arrival.title, arrival.folder)
            for one in deliveries
            if (arrival := arrivals.get(one.key, Arrival())) != Arrival() or one.key in known
        ]
        # A leg of the same run may have said it before.
        self._db.do_many("delete from arrivals where run_id = ? and key = ?", [(row[0], row[4]) for row in rows])
        self._db.do_many("insert into arrivals values (?, ?, ?, ?, ?, ?, ?)", rows)

    def last_deliveries(self, uid: str, keys: Collection[Key] | None = None) -> dict[Key, Delivery]:
        """The latest delivery of each of these items (of all, if none are named) into an environment,
        whichever package brought it."""
        return {key: delivery for key, (_, delivery) in self._last_deliveries(uid, keys).items()}

    def learn(self, run: Run, filled: Mapping[Key, Sequence[Filled]]) -> None:
        """Remembers what an environment made of what a run wrote."""
        rows = [(dumped([one.to_json() for one in some]), run.id, key) for key, some in filled.items()]
        with self._db.transaction():
            self._db.do_many("update deliveries set filled = ? where run_id = ? and key = ?", rows)

    def learned(self, uid: str) -> dict[Key, list[Filled]]:
        """What an environment made of what was last delivered there."""
        query = f"select key, filled from deliveries d where d.uid = ? and d.filled <> '[]' and {_IN_FORCE}"
        rows = self._db.rows(query, (uid,))
        return {row["key"]: [Filled.from_json(one) for one in json.loads(row["filled"])] for row in rows}

    def _last_deliveries(self, uid: str, keys: Collection[Key] | None) -> dict[Key, tuple[int, Delivery]]:
        query = f"select * from deliveries d where d.uid = ? and {_IN_FORCE}"
        if keys is None:
            found = iter(self._db.rows(query, (uid,)))
        else:
            found = self._db.rows_for(f"{query} and d.key in (…)", (uid,), keys)
        return {row["key"]: (row["seq"], _delivery(row)) for row in found}

    def deliveries_of(self, uid: str, key: Key) -> list[Delivered]:
        """Every delivery of one item into an environment that was not undone, the latest first."""
        query = (
            "select d.*, r.name, r.account from deliveries d join runs r on r.id = d.run_id"
            " where d.uid = ? and d.key = ? and d.void_by is null order by d.id desc"
        )
        rows = self._db.rows(query, (uid, key))
        return [Delivered(r["at"], r["name"], r["account"], _delivery(r)) for r in rows]

    def delivered(self, run: Run) -> list[Delivery]:
        """What a run brought, and nobody undid; of an item that several legs brought, the last."""
        query = (
            "select * from deliveries where id in"
            " (select max(id) from deliveries where run_id = ? and void_by is null group by key) order by id"
        )
        return [_delivery(row) for row in self._db.rows(query, (run.id,))]

    def claims(self, uid: str) -> list[Claim]:
        """Who claims which item of an environment, with the version that was delivered last by each."""
        query = (
            "select key, package, source_uid, version from deliveries where id in (select max(id) from deliveries"
            " where uid = ? and void_by is null group by key, package, source_uid)"
        )
        versions = {(r["key"], r["package"], r["source_uid"]): r["version"] for r in self._db.rows(query, (uid,))}
        return [
            Claim(
                r["key"],
                r["package"],
                r["source_uid"],
                versions.get((r["key"], r["package"], r["source_uid"]), ""),
                r["custody"],
            )
            for r in self._db.rows("select * from claims where uid = ? order by key, package", (uid,))
        ]

    def uids(self) -> dict[str, str]:
        """The uid of each environment that was worked in, by name."""
        return {name: uid for uid, name in self.environments().items()}

    def environments(self) -> dict[str, str]:
        """The names under which environments were imported into, by uid."""
        return {
            row["uid"]: row["environment"] for row in self._db.rows("select uid, environment from runs order by id")
        }

    def names_of(self, uid: str) -> list[str]:
        """All names under which an environment was worked in."""
        rows = self._db.rows("select distinct environment from runs where uid = ? order by environment", (uid,))
        return [row["environment"] for row in rows]

    def rename_environment(self, old: str, name: str) -> None:
        """An environment is called something else from now on; runs keep their names."""
        with self._db.transaction():
            # What happened stays as it was told then; only what is looked up by name follows.
            for table in ("runs", "exports"):
                self._db.do(f"update {table} set environment = ? where environment = ?", (name, old))
            self.campaigns.rename(old, name)

    def claimed_by(self, package: str, source_uid: str) -> list[str]:
        """The uids of the environments in which a package claims anything."""
        query = "select distinct uid from claims where package = ? and source_uid = ?"
        return [row["uid"] for row in self._db.rows(query, (package, source_uid))]

    def _write_deliveries(self, run: Run, deliveries: Sequence[Delivery], custody: str) -> None:
        first, at = next_seq(self._db, len(deliveries)), self._clock()
        # What an environment made of it holds on until somebody has looked again; what it had not taken is asked for
        # once more.
        query = "select key, filled from deliveries where uid = ? and filled <> '[]' and void_by is null order by id"
        filled = {row["key"]: _taken(row["filled"]) for row in self._db.rows(query, (run.uid,))}
        rows = []
        for seq, one in enumerate(deliveries, first):
            base = one.base
            row: tuple[Any, ...] = (run.id, at, run.uid, one.key, one.native_id, one.package, one.source_uid)
            row += (one.version, base.form_bytes.decode(), dumped(base.states.to_json()), dumped(one.merged))
            row += (dumped(one.merged_states.to_json()), dumped(dict(base.bindings)), seq, one.rows)
            row += (base.schema, filled.get(one.key, "[]"), dumped(base.layout))
            rows.append(row)
        self._db.do_many(
            "insert into deliveries (run_id, at, uid, key, native_id, package, source_uid, version, form, states,"
            ' merged, merged_states, bindings, seq, rows, "schema", filled, layout)'
            f" values ({', '.join('?' * 18)})",
            rows,
        )
        # Taken out and put in again: the custody is that of the last delivery.
        claims = [(one.package, one.source_uid, one.key, run.uid) for one in deliveries]
        self._db.do_many("delete from claims where package = ? and source_uid = ? and key = ? and uid = ?", claims)
        self._db.do_many("insert into claims values (?, ?, ?, ?, ?)", [(*claim, custody) for claim in claims])


def _taken(filled: str) -> str:
    return dumped([one.to_json() for one in taken(map(Filled.from_json, json.loads(filled)))])


def _delivery(row: Any) -> Delivery:
    states = States.from_json(json.loads(row["states"]))
    return Delivery(
        row["key"],
        row["native_id"],
        row["package"],
        row["source_uid"],
        row["version"],
        Base(
            Folded(row["form"].encode()),
            states,
            json.loads(row["bindings"]),
            row["schema"],
            json.loads(row["layout"]),
        ),
        json.loads(row["merged"]),
        States.from_json(json.loads(row["merged_states"])),
        row["rows"],
        row["run_id"],
    )
