"""What putting back can't give back, and who has to be told: secrets that nobody kept, and addresses that are new."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from amphora.core.form.declared import SECRET
from amphora.core.form.kinds import Sheets
from amphora.core.needs.crosswalk import row_name
from amphora.core.plan.aftercare import Task, placed, secret_task, tell_tasks
from amphora.core.plan.states import Image, is_same, mark_of
from amphora.core.values.keys import Key, encode_segment, name_of
from amphora.core.values.pointers import parse_pointer
from amphora.core.values.scan import token_places
from amphora.core.values.tokens import PREFIX, token_for
from amphora.engine.runs.material import keepable, lost_secrets
from amphora.engine.runs.stage import Stage

Images = Mapping[Key, Image | None]


def lacks_secrets_only(wanted: Image, found: Image, sheets: Sheets) -> bool:
    """Whether secrets are all in which an item is not as it was."""
    sheet = sheets[wanted.kind]
    live, draft = (
        None if version is None else keepable(version, found.newest, sheet) for version in (wanted.live, wanted.draft)
    )
    return is_same(mark_of(replace(wanted, live=live, draft=draft), sheets), mark_of(found, sheets))


def gone_secrets(wanted: Image, again: Image, sheets: Sheets) -> list[str]:
    """The places of the secrets that went with an item and nobody kept, now that it is made again. What a platform
    shows nobody would look as if it were there."""
    sheet = sheets[again.kind]
    return lost_secrets(wanted.newest, None if sheet.hides_secrets else again.newest, sheet)


def care_for(stage: Stage, uid: str, wanted: Images, after: Images, renewed: Mapping[Key, str]) -> list[Task]:
    """What is left to do after putting back: the secrets of what was made again, and its new addresses."""
    sheets = stage.habits.sheets
    links = {key: image.link for key in renewed if (image := after.get(key))}
    titles = {key: image.states.title for key in links if (image := after.get(key))}
    tasks = tell_tasks(titles, links, sheets)
    for key in titles:
        before, now = wanted.get(key), after.get(key)
        places = gone_secrets(before, now, sheets) if before and now else []
        known = _names(stage, uid, key) if places else {}
        for pointer in places:
            token = known.get(pointer) or _token(key, pointer)
            tasks.append(secret_task(key, titles[key], token, row_name(token.removeprefix(PREFIX))))
    return placed(tasks, links)


def _names(stage: Stage, uid: str, key: Key) -> dict[str, str]:
    """The secrets of an item by their places, as they were called when it was delivered."""
    delivery = stage.ledger.last_deliveries(uid, [key]).get(key)
    places = token_places(delivery.merged) if delivery else ()
    return {one.pointer: one.token for one in places if one.token.startswith(SECRET)}


def _token(key: Key, pointer: str) -> str:
    """What a secret is called that was in no package: by its item and its place."""
    tail = [part for part in parse_pointer(pointer) if not part.isdigit()]
    return token_for(f"secret:{encode_segment('-'.join([name_of(key), *tail]))}")
