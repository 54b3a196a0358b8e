"""An environment that breaks one promise at a time: the proof names that one, says what it found, and clears up."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from amphora.core.values.errors import EnvironmentRefused, RevisionMoved
from amphora.engine.promises import Kept
from amphora.engine.prove import prove
from amphora.engine.session import Opened, Session
from amphora.environments.contract import Seen
from amphora.files.workspace import read_workspace

Told = tuple[str, Kept, str, str]


def _breaks(name: str, changed: Callable[..., Any]) -> Callable[[Opened], Opened]:
    """Another answer of one method: given the right method, and what it was asked."""

    def broken(opened: Opened) -> Opened:
        method = getattr(opened.environment, name)
        setattr(opened.environment, name, lambda *words: changed(opened.environment, method, *words))
        return opened

    return broken


def _described(**capabilities: bool) -> Callable[[Opened], Opened]:
    def broken(opened: Opened) -> Opened:
        can = replace(opened.description.capabilities, **capabilities)
        return replace(opened, description=replace(opened.description, capabilities=can))

    return broken


def _is_ours(image: Any) -> bool:
    return bool(image.states.title.startswith("amphora-proof"))


def _shown(changed: Callable[[Any], Any]) -> Callable[[Opened], Opened]:
    """What the proof made is shown as something else."""
    return _breaks(
        "look", lambda _, look, ids: {id_: changed(one) if _is_ours(one) else one for id_, one in look(ids).items()}
    )


def _written(changed: Callable[[Any, Any], Any]) -> Callable[[Opened], Opened]:
    """Each write is made into another one; None where it is refused."""

    def write(environment: Any, method: Any, writes: Any) -> Any:
        made = [changed(environment, one) for one in writes]
        if None in made:
            raise EnvironmentRefused("Not so.")
        return method(made)

    return _breaks("write", write)


def _live_at_once(environment: Any, method: Any, writes: Any) -> Any:
    made = method(writes)
    for asked, one in zip(writes, made, strict=True):
        if asked.kind == "report" and asked.is_new:
            environment.publish(Seen(one.native_id, one.revision))
    return made


def _refused_and_done(environment: Any, method: Any, writes: Any) -> Any:
    try:
        return method(writes)
    except RevisionMoved:
        now = environment.look([writes[0].native_id])[writes[0].native_id]
        method([replace(writes[0], revision=now.revision)])
        raise


def _wave(definition: Any) -> Any:
    """A definition in which a text says more."""
    name = next(name for name, value in definition.items() if isinstance(value, str))
    return definition | {name: definition[name] + " "}


def _only_one(environment: Any, write: Any) -> Any:
    """No two themes of one font."""
    rows = environment.platform.read([row.id for row in environment.platform.index() if row.kind == "theme"])
    is_taken = write.definition.get("font") in [row.newest.get("font", "") for row in rows]
    return None if write.kind == "theme" and write.is_new and is_taken else write


def _is_less(environment: Any, write: Any) -> bool:
    """Whether a change leaves a member out."""
    now = environment.look([write.native_id]).get(write.native_id) if not write.is_new else None
    return now is not None and len(write.definition) < len(now.newest)


BREAKS: dict[str, tuple[Callable[[Opened], Opened], Told]] = {
    "has no uid": (
        lambda opened: replace(opened, description=replace(opened.description, uid="")),
        ("it says what it is", Kept.FAILS, "", "it has no uid"),
    ),
    "lists twice": (_breaks("index", lambda _, index: index() + index()[-1:]), ("its list is whole", Kept.FAILS, "", "ids come twice")),
    "links that lead nowhere": (
        lambda opened: _breaks("index", lambda _, index: [replace(row, link="home") for row in index()])(
            _breaks(
                "read",
                lambda _, read, *words: [
                    replace(one, listed=replace(one.listed, link="home")) for one in read(*words)
                ],
            )(opened)
        ),
        ("its list is whole", Kept.FAILS, "", "has no title, no revision, or a link that is no address"),
    ),
    "shows somebody for anybody": (
        _breaks(
            "look",
            lambda env, look, ids: (
                look(ids) or {id_: one for id_ in ids for one in look([env.index()[0].native_id]).values()}
            ),
        ),
        ("what isn't there is told", Kept.FAILS, "", "under an id that nobody has"),
    ),
    "refuses to look for nobody": (
        _breaks("look", lambda env, look, ids: look([one.listed.native_id for one in env.read(ids)])),
        ("what isn't there is told", Kept.FAILS, "", 'an [[error]] with means = "absent"'),
    ),
    "shows secrets": (
        _breaks(
            "read",
            lambda env, read, ids, take="live": [
                replace(one, definition=env.platform.read([id_])[0].live)
                for id_, one in zip(ids, read(ids, take), strict=True)
            ],
        ),
        ("no declared secret is shown", Kept.FAILS, "", "shows the secret at "),
    ),
    "loses attachments": (_breaks("held_files", lambda *_: {}), ("attachments come back", Kept.FAILS, "", "says something else of what it has")),
    "spoils attachments": (
        _breaks("file", lambda _, file, name: iter([b"".join(file(name))[1:]])),
        ("attachments come back", Kept.FAILS, "", "comes back as something else"),
    ),
    "writes something else": (
        _shown(lambda one: one if one.kind != "theme" else replace(one, draft=_wave(one.newest))),
        ("an item can be made", Kept.FAILS, "theme", "something else is there at /"),
    ),
    "shows nothing of what it made": (
        _breaks("look", lambda _, look, ids: {id_: one for id_, one in look(ids).items() if not _is_ours(one)}),
        ("an item can be made", Kept.FAILS, "theme", "and does not show it"),
    ),
    "takes a second one": (
        _written(lambda _, one: replace(one, segments=(*one.segments[:-1], one.token.replace("/", "-")))),
        ("two items of one name", Kept.FAILS, "theme", "names are said to be unique"),
    ),
    "publishes at once": (_breaks("write", _live_at_once), ("a draft goes live", Kept.FAILS, "report", "live before anybody published it")),
    "refuses and writes": (
        _breaks("write", _refused_and_done),
        ("a change of what somebody changed", Kept.FAILS, "theme", "refused, and changed all the same"),
    ),
    "takes one address once": (_written(_only_one), ("two items may say the same", Kept.ODD, "theme", "no two may have the same 'font'")),
    "goes on naming": (
        _written(
            lambda env, one: (
                replace(one, definition=env.look([one.native_id])[one.native_id].newest)
                if "naming" in one.states.title and not one.is_new
                else one
            )
        ),
        ("what it names can be empty", Kept.FAILS, "flow", "it still names "),
    ),
    "always names": (
        _written(lambda _, one: None if "naming" in one.states.title and not one.is_new else one),
        ("what it names can be empty", Kept.ODD, "table", "Not so. A circle can't be entered"),
    ),
    "refuses every change": (_written(lambda _, one: one if one.is_new else None), ("an item can be changed", Kept.FAILS, "theme", "Not so.")),
    "never forgets a member": (
        _written(
            lambda env, one: (
                replace(one, definition=env.look([one.native_id])[one.native_id].newest | one.definition)
                if _is_less(env, one)
                else one
            )
        ),
        ("an item can be changed", Kept.FAILS, "theme", "was left out and is still there"),
    ),
}  # fmt: skip


@pytest.fixture
def session(halcyon: Path) -> Iterator[Session]:
    session = Session(read_workspace(halcyon))
    yield session
    session.close()


@pytest.mark.parametrize("name", BREAKS)
def test_a_broken_promise_is_named(session: Session, name: str) -> None:
    opened = session.open("grove-dev")
    before = {row.native_id: row.revision for row in opened.environment.index()}
    broken, (promise, kept, kind, words) = BREAKS[name]
    session._opened["grove-dev"] = broken(opened)
    told = prove(session, "grove-dev")
    found = [one for one in told if one.name.startswith(promise) and one.kind == kind]
    assert {one.kept for one in found} == {kept}, [
        (one.name, one.kept, one.words) for one in told if one.kind == kind
    ]
    assert any(words in one.words for one in found)
    again = Session(read_workspace(session.workspace.folder))
    after = {row.native_id: row.revision for row in again.open("grove-dev").environment.index()}
    again.close()
    # What isn't shown can't be cleared up.
    assert after == before or name == "shows nothing of what it made"
