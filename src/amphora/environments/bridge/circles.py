"""Items that name each other, on platforms that remove nothing that is named: in whatever order they are asked."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from amphora.core.form.hollow import loosened
from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.model import Json
from amphora.environments.bridge.jobs import taken
from amphora.environments.bridge.removal import Standing
from amphora.environments.bridge.single import Single
from amphora.environments.contract import Write


def removed_from(
    users: Sequence[Standing],
    single: Single,
    there: dict[str, Single],
    remove: Callable[[Single], None],
    rewrite: Callable[[Write, Single, bool], Single],
) -> None:
    """Removes an item out of a circle: those `users` of it that are to go as well let go of it first, and stand in
    `there` as they are then. Refused all the same, they name it again, and EnvironmentRefused comes through.
    `rewrite` writes an item as it was last seen, and makes that live if told so."""
    native_id = single.row.native_id
    sheets = {user.native_id: user.sheet for user in users}
    was = {user.native_id: there[user.native_id] for user in users}
    for user, one in was.items():
        loose = loosened(one.newest, {native_id}, sheets[user])
        there[user] = rewrite(as_it_is(one, loose), one, True)
    try:
        # One that named itself is another one by now.
        remove(there[native_id])
    except EnvironmentRefused:
        with taken("some of what was to go with it name it no longer"):
            for user, one in was.items():
                # What is live first, and what lies unpublished beside it again on top of that.
                for version, goes_live in ((one.live, True), (one.draft, False)):
                    if version is not None:
                        there[user] = rewrite(as_it_is(there[user], version), there[user], goes_live)
        raise


def as_it_is(single: Single, definition: Json) -> Write:
    """An item with another definition, and nothing else of it changed."""
    row = single.row
    return Write(row.kind, row.segments, row.states, definition, "", row.native_id, row.revision)
