"""Which tables a query reads, in whatever dialect."""

from __future__ import annotations

import pytest

from amphora.core.form.queries import tables_in


@pytest.mark.parametrize(
    ("query", "names"),
    [
        ("select 1", ""),
        ("SELECT * FROM main.a x, \"b c\" AS y, d", "main.a b c d"),
        ("select extract(year from day), trim(both ' ' from e) from t", "t"),
        ("select a from (select * from inner1) z join `db`.`tt` on 1=1 left join [s].[u] k using (x)", "inner1 db.tt s.u"),
        ("with recursive w(a,b) as (select 1), v as (select * from base), u (q) as (select 2)"
         " select * from w join v join u join real", "base real"),
        ("select * from {{ dataset(3) }} join x", "x"),
        ("select * from {{schema}}.t", ""),
        ("select 'from no' -- from nope\n from yes /* from never */ where a is distinct from b", "yes"),
        ("select * from unnest(arr) u", ""),
        ("select * from only t, lateral x for update", "t x"),
        ("select * from a where b in (select c from d) group by e", "a d"),
        ("select * from a natural join b order by c", "a b"),
        ("select * from a a1 cross join a a2", "a"),
        ('select "from" from "a""b"', 'a"b'),
        ("select * from a as b where c", "a"),
        ("from", ""),
        ("select * from a,", "a"),
        ("with x as materialized (select * from y) select * from x", "y"),
        ("select x.with from a.x", "a.x"),
        ("with a as (select 1) select * from b, b as (", ""),
    ],
)  # fmt: skip
def test_what_a_query_reads(query: str, names: str) -> None:
    assert " ".join(map(".".join, tables_in(query))) == names
