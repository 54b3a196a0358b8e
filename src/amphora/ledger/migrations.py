"""The ledger's tables, in numbered steps: a ledger of any earlier build is brought up to date when it is opened,
one of a later build is refused. Forms and other structured values are stored as JSON text.

The statements keep to what SQLite and PostgreSQL have in common, so that a team's database needs no second set.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from amphora.ledger.database import Database

FIRST = """
create table if not exists facts (name text primary key, value text not null);
create table if not exists exports (
    id integer primary key, at text not null, environment text not null, uid text not null, package text not null,
    version text not null, contents_digest text not null, package_digest text not null, file text not null,
    layout_digest text not null default '');
create table if not exists exported (
    export_id integer not null references exports(id), key text not null, form text not null, states text not null,
    primary key (export_id, key));
create table if not exists links (
    key text not null, uid text not null, native_id text not null, "inner" text not null, link text not null,
    primary key (key, uid), unique (uid, native_id));
create table if not exists runs (
    id integer primary key, name text not null unique, environment text not null, uid text not null,
    package text not null, version text not null, source_uid text not null, package_digest text not null,
    account text not null, state text not null, started_at text not null, ended_at text,
    note text not null default '');
create table if not exists steps (
    run_id integer not null references runs(id), number integer not null, do text not null, keys text not null,
    intent text not null, state text not null, outcome text not null, at text not null,
    primary key (run_id, number));
create table if not exists deliveries (
    id integer primary key, run_id integer not null references runs(id), at text not null, uid text not null,
    key text not null, native_id text not null, package text not null, source_uid text not null,
    version text not null, form text not null, states text not null, merged text not null,
    merged_states text not null, bindings text not null);
create table if not exists claims (
    package text not null, source_uid text not null, key text not null, uid text not null, custody text not null,
    primary key (package, source_uid, key, uid));
"""

SECOND = """
alter table runs add column kind text not null default 'import';
alter table runs add column of_run integer;
alter table runs add column docket text not null default '{}';
alter table runs add column outside text not null default '{}';
alter table runs add column remembered text not null default '{}';
alter table runs add column format integer not null default 1;
alter table exports add column seq integer not null default 0;
alter table deliveries add column seq integer not null default 0;
alter table deliveries add column void_by integer;
alter table deliveries add column rows integer;
create table touched (
    run_id integer not null references runs(id), key text not null, before text not null,
    primary key (run_id, key));
create table locks (
    uid text primary key, holder text not null, host text not null, process integer not null, began text not null,
    since text not null, purpose text not null);
create index deliveries_of_items on deliveries (uid, key);
create index deliveries_of_runs on deliveries (run_id);
create index deliveries_made_void on deliveries (void_by);
create index claims_on_items on claims (uid, key);
create index runs_backwards on runs (of_run);
"""

THIRD = """
alter table runs add column leg integer not null default 1;
create table begun (
    run_id integer not null references runs(id), key text not null, leg integer not null, before text not null,
    primary key (run_id, key, leg));
insert into begun select run_id, key, 1, before from touched;
drop table touched;
alter table begun rename to touched;
create table legs (
    run_id integer not null references runs(id), leg integer not null, account text not null, began text not null,
    ended text, state text not null default '', primary key (run_id, leg));
alter table locks add column renewed text not null default '';
create table arrivals (
    run_id integer not null references runs(id), uid text not null, package text not null, source_uid text not null,
    key text not null, title text, folder text, primary key (run_id, key));
create table parcels (
    digest text not null, number integer not null, piece blob not null, primary key (digest, number));
"""

FOURTH = """
alter table exported add column "schema" integer;
alter table deliveries add column "schema" integer;
"""

FIFTH = """
create table campaigns (
    id integer primary key, name text not null unique, package text not null, version text not null,
    source_uid text not null, package_digest text not null, account text not null, started_at text not null,
    state text not null, request text not null);
alter table runs add column campaign text not null default '';
create table omissions (
    run_id integer not null references runs(id), uid text not null, package text not null, source_uid text not null,
    key text not null, is_left integer not null, primary key (run_id, key));
"""


SIXTH = """
create table aftercare (
    id integer primary key, run_id integer not null references runs(id), kind text not null, key text not null,
    name text not null, words text not null, link text not null, who text not null, state text not null,
    by_whom text not null default '', note text not null default '', at text not null default '',
    done_by integer);
create index aftercare_of_runs on aftercare (run_id);
create table proofs (
    id integer primary key, at text not null, uid text not null, run_id integer references runs(id),
    package text not null, version text not null, account text not null, items integer not null, wrong text not null);
create index proofs_of_packages on proofs (uid, package);
alter table runs add column cared integer not null default 0;
alter table runs add column why text not null default '';
"""

SEVENTH = """
alter table deliveries add column filled text not null default '[]';
"""

EIGHTH = """
alter table deliveries add column layout text not null default 'null';
"""

NINTH = """
alter table runs add column stays integer not null default 0;
alter table runs add column returned integer not null default 0;
"""
# Of each run it is asked how the latest attempt at putting it back ended.
TENTH = """
create index runs_of_run on runs (of_run);
"""
# Revisions alone can't tell a change from something that was saved as it is.
ELEVENTH = """
alter table runs add column marks text not null default '{}';
"""
# A sheet that learns something makes another mark of the same state.
TWELFTH = """
create table kind_sheets (digest text primary key, source text not null);
alter table runs add column sheets text not null default '{}'
"""


def _first(db: Database) -> None:
    _all(db, FIRST)
    # Builds before the first numbered one lacked this column.
    if "layout_digest" not in db.columns("exports"):
        db.do("alter table exports add column layout_digest text not null default ''")


def _second(db: Database) -> None:
    _all(db, SECOND)
    # One order over exports and deliveries: which of two bases is the later one. Older rows have only times.
    both = (*db.rows("select at, 0, id from exports"), *db.rows("select at, 1, id from deliveries"))
    rows = [tuple(row) for row in both]
    # At the same second the export comes first: what was delivered was exported before.
    for seq, (_, which, id_) in enumerate(sorted(rows), 1):
        db.do(f"update {('exports', 'deliveries')[which]} set seq = ? where id = ?", (seq, id_))
    db.do("insert into facts values ('seq', ?)", (str(len(rows)),))


def _all(db: Database, statements: str) -> None:
    for statement in statements.split(";"):
        if statement.strip():
            db.do(statement)


# In this order for ever: what has been carried out somewhere is never changed, only followed.
_LATER = (THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH, NINTH, TENTH, ELEVENTH, TWELFTH)
MIGRATIONS: tuple[Callable[[Database], None], ...] = (
    _first,
    _second,
    *(partial(_all, statements=statements) for statements in _LATER),
)
"""Each takes a ledger from the version of its position to the next one."""


def version_of(db: Database) -> int:
    """The version of a ledger's tables: 0 for an empty database, and for those of before there were numbers."""
    if not db.columns("facts"):
        return 0
    rows = db.rows("select value from facts where name = 'schema'")
    return int(rows[0][0]) if rows else 0


def migrate(db: Database, version: int) -> None:
    """Takes a ledger of a version up to the newest one, inside the caller's transaction."""
    for step in MIGRATIONS[version:]:
        step(db)
    db.do("delete from facts where name = 'schema'")
    db.do("insert into facts values ('schema', ?)", (str(len(MIGRATIONS)),))
