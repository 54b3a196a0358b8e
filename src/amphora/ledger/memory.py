"""What was before a run: the claims and links that it changed, so that its undo gives back both."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from amphora.core.needs.matches import Link
from amphora.core.values.keys import Key
from amphora.core.values.model import Json
from amphora.ledger.database import Database, dumped


def write_links(db: Database, links: Iterable[Link], addresses: Mapping[str, str]) -> None:
    """Remembers which id is which item; `addresses` gives the link of an id."""
    rows = [(n.key, n.uid, n.native_id, dumped(dict(n.inner)), addresses.get(n.native_id, "")) for n in links]
    db.do_many("delete from links where uid = ? and key = ?", [(uid, key) for key, uid, *_ in rows])
    # Either end may have been somebody else's: an id belongs to one key, and a key has one id.
    db.do_many("delete from links where uid = ? and native_id = ?", [(uid, id_) for _, uid, id_, *_ in rows])
    db.do_many('insert into links (key, uid, native_id, "inner", link) values (?, ?, ?, ?, ?)', rows)


def claims_and_links(db: Database, uid: str, keys: Collection[Key]) -> dict[str, Json]:
    """The claims on items of an environment and their links, so that an undo gives back both."""
    claims = db.rows_for("select * from claims where uid = ? and key in (…)", (uid,), keys)
    links = db.rows_for("select * from links where uid = ? and key in (…)", (uid,), keys)
    return {
        "keys": sorted(keys),
        "claims": [[r["key"], r["package"], r["source_uid"], r["custody"]] for r in claims],
        "links": [[r["key"], r["native_id"], r["inner"], r["link"]] for r in links],
    }


def joined(before: Json, after: Json) -> Json:
    """What was remembered of items first, and of others that came later."""
    if not before:
        return after
    known = set(before["keys"])
    rows = {name: before[name] + [row for row in after[name] if row[0] not in known] for name in ("claims", "links")}
    return {"keys": sorted(known | set(after["keys"])), **rows}


def restore(db: Database, uid: str, keys: Collection[Key], remembered: Mapping[str, Any]) -> None:
    """Gives items of an environment the claims and links that they had."""
    if not keys:
        return
    claims = [(package, source, k, uid, custody) for k, package, source, custody in remembered["claims"] if k in keys]
    db.do_many("delete from claims where uid = ? and key = ?", [(uid, key) for key in keys])
    db.do_many("insert into claims values (?, ?, ?, ?, ?)", claims)
    db.do_many("delete from links where uid = ? and key = ?", [(uid, key) for key in keys])
    links = [row for row in remembered["links"] if row[0] in keys]
    db.do_many("delete from links where uid = ? and native_id = ?", [(uid, native_id) for _, native_id, *_ in links])
    db.do_many(
        'insert into links (key, uid, native_id, "inner", link) values (?, ?, ?, ?, ?)',
        [(key, uid, native_id, inner, link) for key, native_id, inner, link in links],
    )
