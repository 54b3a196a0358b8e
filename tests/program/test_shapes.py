"""One package into a newer and an older release: converted, told before, and nothing lost; and an environment that is
brought to a newer release between two imports."""

from __future__ import annotations

from contextlib import closing
from inspect import getattr_static
from pathlib import Path

from amphora.environments.practice import connect
from amphora.environments.sheeted import Sheeted


def test_what_an_environment_can_do_it_can_do_under_sheets_of_the_workspace(halcyon: Path) -> None:
    with closing(connect("practice:grove-dev.practice", halcyon, "", "")) as inside:
        outside = Sheeted(inside, {}, {})
        can = [name for name in dir(type(inside)) if not name.startswith("_") and callable(getattr(inside, name))]
        assert {"publish", "switch", "probe", "records", "makers"} <= set(can)
        # As Python asks from 3.12 on, whether an object keeps a protocol: without `__getattr__`.
        assert [name for name in can if getattr_static(outside, name, None) is None] == []
