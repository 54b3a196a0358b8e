"""Aftercare: what has to follow an import before it is finished, worked out from its docket."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from enum import StrEnum

from amphora.core.form.kinds import KindSheet
from amphora.core.values.keys import Key, kind_of, told_apart
from amphora.core.values.late import dataclass
from amphora.core.values.model import Item
from amphora.core.values.words import few


class Care(StrEnum):
    """Kinds of aftercare, in the order in which they are safely done: nothing is switched on before its secrets are
    there, and nobody is told of what does not work yet."""

    SECRET = "secret"
    CONNECTION = "connection"
    PUBLISH = "publish"
    SWITCH_ON = "switch on"
    SWITCH_OFF = "switch off"
    ACCESS = "access"
    TEXT = "text"
    WORDS = "words"
    TELL = "tell"


DOABLE = (Care.SECRET, Care.PUBLISH, Care.SWITCH_ON, Care.SWITCH_OFF)
"""What Amphora can do by itself, where the target lets it."""

SEEN = (*DOABLE, Care.CONNECTION, Care.TEXT)
"""What can be told by looking, so that nobody has to tick it off. The others only somebody's word settles."""


@dataclass(frozen=True)
class Task:
    """One thing to do. `key` is the item or need that it is about, empty where it is about the whole import; `name`
    what in it: a secret's token, an old address; `words` what to do, for people; `link` where."""

    kind: Care
    key: Key
    words: str
    name: str = ""
    link: str = ""
    who: str = ""

    @property
    def matter(self) -> tuple[str, Key, str]:
        """What it is about: two tasks of one matter are one."""
        # Not the words: a title that was changed since would make the same thing be asked for twice.
        return self.kind.value, self.key, self.name


def secret_task(key: Key, title: str, token: str, name: str) -> Task:
    """A secret that the target will lack."""
    return Task(Care.SECRET, key, f"Enter secret {name} in {title}", token, who="whoever knows it")


def words_tasks(words: Iterable[str]) -> list[Task]:
    """What the package's maker asks for, word by word."""
    return [Task(Care.WORDS, "", text, text) for text in words]


def tell_tasks(titles: Mapping[Key, str], links: Mapping[Key, str], sheets: Mapping[str, KindSheet]) -> list[Task]:
    """The people who begin with something that is new have to be told its address: one task for each such item.
    `titles` are those of what was created."""
    # Of what is new only: whoever works with the rest has its address.
    return [
        Task(Care.TELL, key, f"Tell those who use {title} where it is", link=links.get(key, ""))
        for key, title in told_apart(titles).items()
        if (sheet := sheets.get(kind_of(key))) and sheet.is_start
    ]


def access_tasks(titles: Mapping[Key, str], covered: Collection[Key], sheets: Mapping[str, KindSheet]) -> list[Task]:
    """Whoever is to begin with something new needs access, where the environment has rules and none came along.
    `titles` are those of what was created, `covered` the items that rules of the package give access to."""
    # Where the platform has no rules for a kind, everybody may open it, and nothing has to be given.
    ruled = {kind for sheet in sheets.values() for kind in sheet.access}
    return [
        Task(Care.ACCESS, key, f"Give those who are to work with {title} access: no rule for it came along")
        for key, title in told_apart(titles).items()
        if kind_of(key) in ruled and key not in covered
        if (sheet := sheets.get(kind_of(key))) and sheet.is_start
    ]


def given_access(items: Iterable[Item], sheets: Mapping[str, KindSheet]) -> set[Key]:
    """The items to which access rules among some items give access."""
    return {used for item in items if (sheet := sheets.get(item.kind)) and sheet.is_access for used in item.uses()}


def state_task(key: Key, title: str, kind: Care) -> Task:
    """A state that the target did not take on."""
    words = {Care.PUBLISH: "Publish", Care.SWITCH_ON: "Switch on", Care.SWITCH_OFF: "Switch off"}
    return Task(kind, key, f"{words[kind]} {title}")


def text_task(key: Key, title: str, address: str) -> Task:
    """A text that still holds an address of the source."""
    return Task(Care.TEXT, key, f"Replace the old address {address} in {title}", address)


def connection_task(need: Key, name: str, native: str, reason: str) -> Task:
    """A connection that does not work."""
    return Task(Care.CONNECTION, need, f"Make connection {name} work: {reason or 'it does not answer'}", native)


def placed(tasks: Sequence[Task], links: Mapping[Key, str]) -> list[Task]:
    """The tasks with the addresses of their items, in the order in which they are safely done."""
    order = list(Care)
    found = [task if task.link else replace(task, link=links.get(task.key, "")) for task in tasks]
    # Sorting is stable: tasks of one kind stay in the order of their items.
    return sorted(found, key=lambda task: order.index(task.kind))


def told(tasks: Sequence[Task]) -> str:
    """How many there are of each kind, in words."""
    names = {
        Care.SECRET: "secret",
        Care.CONNECTION: "connection",
        Care.PUBLISH: "publication",
        Care.SWITCH_ON: "switch",
        Care.SWITCH_OFF: "switch",
        Care.TEXT: "text with an old address",
        Care.ACCESS: "access to give",
        Care.WORDS: "request of its maker",
        Care.TELL: "message to its users",
    }
    counts: dict[str, int] = {}
    for task in tasks:
        counts[names[task.kind]] = counts.get(names[task.kind], 0) + 1
    plurals = {
        "access to give": "accesses to give",
        "switch": "switches",
        "text with an old address": "texts with an old address",
        "request of its maker": "requests of its maker",
        "message to its users": "messages to its users",
    }
    return few([f"{n} {name if n == 1 else plurals.get(name, name + 's')}" for name, n in counts.items()], 8)
