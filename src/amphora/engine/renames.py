"""What names something by its title when that gets another one: written again where it is part of the import, told
where it isn't."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from amphora.core.form.kinds import KindSheet
from amphora.core.form.spots import titled_ids
from amphora.core.plan.actions import REWRITTEN, Action, Do
from amphora.core.plan.states import Image
from amphora.core.values.keys import Key, kind_of
from amphora.engine.sides import Side


def with_rewritten(side: Side, actions: Sequence[Action]) -> tuple[list[Action], tuple[tuple[Key, Key], ...]]:
    """The actions, in which whatever names by its title something that gets another one is written again; and the
    items beside the package that name such a thing, each with what it names."""
    sheets = side.opened.description.sheets
    named = frozenset[str]().union(*(sheet.names_by_title for sheet in sheets.values()))
    renamed = {action.key for action in actions if _is_renamed(action) and kind_of(action.key) in named}
    # Hardly ever; and only then everything that names things by their titles is looked at.
    if not renamed:
        return list(actions), ()
    users = {
        key: used
        for key, image in _namers(side, sheets)
        if (used := _named(image, sheets[image.kind], side.keys) & renamed - {key})
    }
    ours = {action.key for action in actions if action.do is not Do.RETIRE}
    rewritten = [_rewritten(action) if action.key in users else action for action in actions]
    return rewritten, tuple((user, key) for user in sorted(users.keys() - ours) for key in sorted(users[user]))


def _rewritten(action: Action) -> Action:
    if action.do is Do.LEAVE:
        return replace(action, do=Do.UPDATE, reason=REWRITTEN, is_rewritten=True)
    return replace(action, is_rewritten=action.do is Do.UPDATE)


def _is_renamed(action: Action) -> bool:
    present = action.present
    return action.do is Do.UPDATE and present is not None and action.states.title != present.states.title


def _namers(side: Side, sheets: Mapping[str, KindSheet]) -> Iterable[tuple[Key, Image]]:
    kinds = {kind for kind, sheet in sheets.items() if sheet.names_by_title}
    ids = [native_id for native_id, key in side.keys.items() if kind_of(key) in kinds]
    for native_id, image in side.opened.environment.look(ids).items():
        yield side.keys[native_id], image


def _named(image: Image, sheet: KindSheet, keys: Mapping[str, Key]) -> set[Key]:
    versions = [version for version in (image.live, image.draft) if version is not None]
    return {keys[one] for version in versions for one in titled_ids(version, sheet) if one in keys}
