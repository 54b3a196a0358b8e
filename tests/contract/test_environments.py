"""What every adapter promises, tried on each."""

from __future__ import annotations

import json
from contextlib import closing
from dataclasses import replace
from inspect import getattr_static
from pathlib import Path

import pytest

from amphora.core.form.bindings import Bindings
from amphora.core.form.native import to_native
from amphora.core.form.portable import to_portable
from amphora.core.plan.states import Image, mark_of
from amphora.core.values.errors import EnvironmentRefused, RevisionMoved
from amphora.engine.promises import Kept
from amphora.engine.prove import prove
from amphora.engine.sides import own_side
from amphora.environments.contract import Seen, Switches, Write
from amphora.environments.practice import connect
from amphora.environments.sheeted import Sheeted
from tests.conftest import SECRETS
from tests.contract.grounds import Ground


def test_it_says_what_it_is(ground: Ground) -> None:
    opened = ground.session().open(ground.source)
    description, identity = opened.description, opened.environment.whoami()
    assert description.uid
    assert "://" in description.base_url
    assert {"read", "write", "retire"} <= identity.permissions
    assert description.uid != ground.session().open(ground.target).description.uid


def test_the_index_is_whole_and_ordered(ground: Ground) -> None:
    environment = ground.session().open(ground.source).environment
    rows = environment.index()
    ids = [row.native_id for row in rows]
    assert ids == sorted(set(ids))
    assert [found.listed for found in environment.read(ids[::-1])] == rows[::-1]
    assert all(row.revision and "://" in row.link and row.states.title for row in rows)
    with pytest.raises(EnvironmentRefused):
        environment.read(["nothing-has-this-id"])


def test_both_laws_of_the_portable_form(ground: Ground) -> None:
    session = ground.session()
    side = own_side(session.open(ground.source), session.ledger, session.crosswalk)
    for key, row in side.by_key.items():
        sheet = side.opened.description.sheets[row.kind]
        [found] = side.opened.environment.read([row.native_id])
        first = to_portable(found.definition, sheet, side.names, key=key, binds_new=True)
        back = to_native(
            first.form, sheet, side.names, layout=first.layout, present=found.definition, files=first.files
        )
        assert back.definition == found.definition
        assert not back.missing
        elsewhere = Bindings(side.names.style, dict(side.names.values))
        elsewhere.part_owner = side.names.part_owner
        again = to_portable(back.definition, sheet, elsewhere, key=key, guide=first.form)
        assert again.form == first.form


def test_no_secret_is_ever_read(ground: Ground) -> None:
    environment = ground.session().open(ground.source).environment
    ids = [row.native_id for row in environment.index()]
    everything = str(environment.read(ids)) + json.dumps(
        [image.to_json() for image in environment.look(ids).values()]
    )
    assert not [piece for piece in SECRETS if piece in everything]


def test_a_stale_write_changes_nothing(ground: Ground) -> None:
    environment = ground.session().open(ground.source).environment
    row = next(row for row in environment.index() if row.kind == ground.kind)
    [found] = environment.read([row.native_id])
    before = ground.state(ground.source)
    stale = Write(
        row.kind, row.segments, replace(row.states, title="Other"), found.definition, "t", row.native_id, "0"
    )
    with pytest.raises(RevisionMoved):
        environment.write([stale])
    assert ground.state(ground.source) == before


def test_what_is_looked_at_can_be_kept_and_told_apart(ground: Ground) -> None:
    opened = ground.session().open(ground.source)
    environment, sheets = opened.environment, opened.description.sheets
    side = own_side(opened, ground.session().ledger, ground.session().crosswalk)
    native_id = side.by_key[ground.renamed].native_id
    before = environment.look([native_id, "nothing-has-this-id"])
    assert list(before) == [native_id]
    kept = Image.from_json(json.loads(json.dumps(before[native_id].to_json())))
    assert kept == before[native_id]
    assert mark_of(kept, sheets) == mark_of(environment.look([native_id])[native_id], sheets)
    ground.change(ground.source, ground.renamed, lambda d: ground.laid(d, note="spoiled", info="spoiled"))
    spoiled = environment.look([native_id])[native_id]
    assert mark_of(kept, sheets) != mark_of(spoiled, sheets)
    assert kept.revision != spoiled.revision


def test_switching(ground: Ground) -> None:
    opened = ground.session().open(ground.source)
    environment = opened.environment
    # Who says that nothing is switched can't switch; everybody else can.
    assert isinstance(environment, Switches) is any(s.is_switched for s in opened.description.sheets.values())
    if not isinstance(environment, Switches):
        return
    row = next(row for row in environment.index() if row.states.is_on)
    environment.switch(Seen(row.native_id, row.revision), False)
    with pytest.raises(RevisionMoved):
        environment.switch(Seen(row.native_id, row.revision), True)
    assert environment.read([row.native_id])[0].listed.states.is_on is False


def test_it_proves_itself(ground: Ground) -> None:
    ground.bring(ground.export())
    path = ground.folder / "amphora.toml"
    path.write_text(path.read_text("utf-8").replace('role = "live"', 'role = "test"'), "utf-8")
    before = ground.state(ground.target)
    promises = prove(ground.session(), ground.target)
    assert [one for one in promises if one.kept is Kept.FAILS] == []
    assert {"an item can be made, and is what was asked for", "what is used can't be removed"} <= {
        one.name for one in promises
    }
    assert ground.state(ground.target) == before


def test_what_an_environment_can_do_it_can_do_under_sheets_of_the_workspace(halcyon: Path) -> None:
    with closing(connect("practice:grove-dev.practice", halcyon, "", "")) as inside:
        outside = Sheeted(inside, {}, {})
        can = [name for name in dir(type(inside)) if not name.startswith("_") and callable(getattr(inside, name))]
        assert {"publish", "switch", "probe", "records", "makers"} <= set(can)
        # As Python asks from 3.12 on, whether an object keeps a protocol: without `__getattr__`.
        assert [name for name in can if getattr_static(outside, name, None) is None] == []
