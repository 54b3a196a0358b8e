"""Rules on portability: what must not or can't travel.

Packages are large and these findings rare, so that a look at an item's bytes decides whether it is walked
at all: cost stays linear and small.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import field
from urllib.parse import urlsplit

from amphora.core.checks.context import CheckContext, Rule, Todo
from amphora.core.form.addresses import addresses_in, shown_address
from amphora.core.form.glance import may_hold
from amphora.core.form.secrets import sealed, to_silence
from amphora.core.form.spots import MASKS, is_mask, region_values
from amphora.core.form.visit import texts
from amphora.core.values.late import dataclass
from amphora.core.values.model import Finding, Item, Leak, Level
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import write_pointer

FAMILY = "portability"
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]+@(?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,}(?![\w-])")
_WORD = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*")
_TOKENS = re.compile(r"\$\{amphora:[^}]*\}|^amphora:.*", re.DOTALL)
_IN_WORDS = frozenset(b"+/_-.0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
_WORDS_ALIKE = bytes(ord("w") if code in _IN_WORDS else ord(" ") for code in range(256))
SHORTEST_ID = 6
_LONGER = b"w" * 24
_MASKED = tuple(mask.encode() for mask in MASKS)
FEW = 16


def secret_in_clear(context: CheckContext) -> Iterable[Finding]:
    """A value that looks like a secret stands in clear where none is declared."""
    for item, leak in _leaks(context, is_sure=True):
        yield context.finding(
            "secret-in-clear",
            Level.ERROR,
            f"{item.states.title!r} holds what looks like a secret in clear text ({leak.rule}): {leak.shown}.",
            item=item.key,
            place=leak.place,
            next_step=to_silence(item.key, leak),
            mark=leak.mark,
        )


def random_looking(context: CheckContext) -> Iterable[Finding]:
    """A value is as random as a key or token, though nothing else says that it is one."""
    for item, leak in _leaks(context, is_sure=False):
        yield context.finding(
            "random-looking",
            Level.WARNING,
            f"{item.states.title!r} holds a value as random as a key: {leak.shown}.",
            item=item.key,
            place=leak.place,
            mark=leak.mark,
        )


def mask_in_place(context: CheckContext) -> Iterable[Finding]:
    """What a platform shows in place of a secret stands where none is declared: it would be written as it is."""
    for item in suspects(context).masked:
        for place, text in texts(item.form):
            if is_mask(text):
                yield context.finding(
                    "mask-in-place",
                    Level.WARNING,
                    f"{item.states.title!r} holds what looks like the mask of a secret: {text}.",
                    item=item.key,
                    place=place,
                    next_step=advice("Name the place under secret in its kind sheet, and export it again."),
                )


def _leaks(context: CheckContext, is_sure: bool) -> Iterator[tuple[Item, Leak]]:
    """The leaks of the items whose bytes give a reason to look, found once for both rules."""
    found = context.kept.get("leaks")
    if not isinstance(found, list):
        sheets = context.sheets
        found = [
            (item, leak)
            # Items that were just read have theirs noted; those of a package are looked at now.
            for item in suspects(context).secret
            for leak in item.leaks or sealed(item, sheets.get(item.kind), context.guard, is_suspect=True).leaks
        ]
        context.kept["leaks"] = found
    return ((item, leak) for item, leak in found if leak.is_sure is is_sure)


def source_url_in_text(context: CheckContext) -> Iterable[Finding]:
    """An address of the source stands where it isn't rewritten."""
    # The longest first: an address that begins with another one is told as itself.
    urls = sorted({url.rstrip("/") for url in context.source_urls if url}, key=len, reverse=True)
    for item, at, url in _holding(suspects(context).host, urls):
        yield context.finding(
            "source-url-in-text",
            Level.WARNING,
            f"{item.states.title!r} holds {url}, which leads back to {context.contents.source}.",
            item=item.key,
            place=at,
        )


def source_host_in_text(context: CheckContext) -> Iterable[Finding]:
    """A host name of the source stands in a text without being part of an address."""
    hosts = _hosts(context)
    # In an address the rule before this one tells it.
    unless = [f"{before}{host}" for host in hosts for before in ("//", "@")]
    for item, at, host in _holding(suspects(context).host, hosts, unless):
        yield context.finding(
            "source-host-in-text",
            Level.WARNING,
            f"{item.states.title!r} names the host {host} of {context.contents.source}.",
            item=item.key,
            place=at,
        )


def source_id_in_text(context: CheckContext) -> Iterable[Finding]:
    """A native id of a packed item stands where it isn't rewritten."""
    # Short ids are words of every language: they would be found everywhere.
    # One that is what the item is called, too, is what it will be called on the far side.
    ids = {
        item.native_id: item
        for item in context.contents.items.values()
        if len(item.native_id) >= SHORTEST_ID and item.native_id != item.states.title
    }
    for item in suspects(context).id:
        # Once an item: the same id stands in a script ten times.
        told: set[str] = set()
        for at, text in texts(item.form):
            # Without our own tokens: they are what is rewritten.
            for native in _WORD.findall(_TOKENS.sub(" ", text)):
                if native in ids and native not in told:
                    told.add(native)
                    yield context.finding(
                        "source-id-in-text",
                        Level.WARNING,
                        f"{item.states.title!r} holds {native}, the id of {ids[native].states.title!r} in"
                        f" {context.contents.source}.",
                        item=item.key,
                        place=at,
                    )


def address_in_text(context: CheckContext) -> Iterable[Finding]:
    """Somebody's mail address or account stands in clear."""
    for item in suspects(context).address:
        for at, text in texts(item.form):
            # Most texts have none, and the pattern is slow.
            if "@" in text and (found := _MAIL.search(text)):
                yield context.finding(
                    "address-in-text",
                    Level.WARNING,
                    f"{item.states.title!r} holds the address {found[0]}, which travels as it is.",
                    item=item.key,
                    place=at,
                )


def address_inside(context: CheckContext) -> Iterable[Finding]:
    """A part of an item leads to another machine without being a connection."""
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        if sheet is None or not sheet.has_outward:
            continue
        # Once an item: twenty requests to one machine are one thing to look at.
        told: dict[str, str] = {}
        for at, text in addresses_in(item.form, sheet):
            told.setdefault(shown_address(text), write_pointer(at))
        for shown, place in told.items():
            yield context.finding(
                "address-inside",
                Level.WARNING,
                f"{item.states.title!r} leads to {shown} by itself, and will from there: no connection to be mapped.",
                item=key,
                place=place,
            )


def region_bound(context: CheckContext) -> Iterable[Finding]:
    """An item is bound to a region that the target isn't in."""
    if context.target is None or not context.target.region:
        return
    for key, item in sorted(context.contents.items.items()):
        sheet = context.sheets.get(item.kind)
        if sheet is None or not sheet.has_region:
            continue
        for region in region_values(item.form, sheet):
            if region != context.target.region:
                yield context.finding(
                    "region-bound",
                    Level.ERROR,
                    f"{item.states.title!r} belongs to region {region!r}; {context.target.name} is in"
                    f" {context.target.region!r}.",
                    item=key,
                    next_step=context.retry_without(key).plus("--leave-out", key),
                )


@dataclass(frozen=True)
class Suspects:
    """The items that are worth a walk, for each rule."""

    secret: list[Item] = field(default_factory=list)
    masked: list[Item] = field(default_factory=list)
    host: list[Item] = field(default_factory=list)
    id: list[Item] = field(default_factory=list)
    address: list[Item] = field(default_factory=list)


def suspects(context: CheckContext) -> Suspects:
    """One look at the bytes of every item, for all rules of this family; kept with the context."""
    known = context.kept.get(FAMILY)
    if isinstance(known, Suspects):
        return known
    found = Suspects()
    hosts = [host.encode() for host in _hosts(context)]
    may_hold_id = _id_filter(item.native_id for item in context.contents.items.values())
    for _, item in sorted(context.contents.items.items()):
        raw = item.form_bytes
        # All that can stand in a key becomes one letter: whether a long run of it is there is a search for bytes.
        words = raw.translate(_WORDS_ALIKE)
        if b"@" in raw:
            found.address.append(item)
        # Titles, folders and keys travel too; they are short, and looked at by whoever is asked.
        if _LONGER in words or may_hold(raw) or may_hold(f"{item.key} {item.states.title} {item.link}".encode()):
            found.secret.append(item)
        if any(sign in raw for sign in _MASKED):
            found.masked.append(item)
        if any(host in raw for host in hosts):
            found.host.append(item)
        if may_hold_id(raw, words):
            found.id.append(item)
    context.kept[FAMILY] = found
    return found


def _hosts(context: CheckContext) -> list[str]:
    # A bare word such as `localhost` would be found in half of all texts.
    hosts = {urlsplit(url).hostname for url in context.source_urls if url}
    # Most particular first, so that a sub-domain is told by its own name.
    return sorted({host for host in hosts if host and "." in host}, key=len, reverse=True)


def _id_filter(natives: Iterable[str]) -> Callable[[bytes, bytes], bool]:
    """Tells of an item's bytes (and of the same with all words alike) whether they can hold one of these ids.

    >>> may_hold = _id_filter(["fl-123", "mill"])
    >>> may_hold(b"starts fl-123", b"wwwwww wwwwww"), may_hold(b"the mill", b"www wwww")
    (True, False)
    """
    ids = [native for native in natives if len(native) >= SHORTEST_ID]
    beginnings = {native[:3].encode() for native in ids}
    # Environments whose ids begin alike: a few searches instead of taking every word for a suspect.
    if len(beginnings) <= FEW:
        return lambda raw, words: any(start in raw for start in beginnings)
    shortest = b"w" * min(map(len, ids))
    return lambda raw, words: shortest in words


def _holding(items: list[Item], words: list[str], unless: list[str] | None = None) -> Iterator[tuple[Item, str, str]]:
    """The items that hold one of these words, with the place and the word."""
    for item in items:
        for at, text in texts(item.form):
            for other in unless or ():
                text = text.replace(other, "")
            found = next((word for word in words if word in text), None)
            if found:
                yield item, at, found


RULES = (
    Rule(
        "secret-in-clear",
        FAMILY,
        Level.ERROR,
        Todo.MEND,
        "A value that is a secret by its place, name or look stands in clear.",
        "It would reach everybody who can read the package, and the other environment.",
        secret_in_clear,
    ),
    Rule(
        "region-bound",
        FAMILY,
        Level.ERROR,
        Todo.PACK,
        "An item is bound to a region that the target isn't in.",
        "Its data have to stay at home; the target refuses it.",
        region_bound,
    ),
    Rule(
        "random-looking",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "A value is as random as a key or token, though nothing else says that it is one.",
        "Secrets hide under names that nobody thought of.",
        random_looking,
    ),
    Rule(
        "mask-in-place",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "What a platform shows in place of a secret stands where none is declared.",
        "An import would write it over the secret that the target has.",
        mask_in_place,
    ),
    Rule(
        "source-url-in-text",
        FAMILY,
        Level.WARNING,
        Todo.MEND,
        "An address of the source stands where it isn't rewritten.",
        "People on the far side follow it back into the source.",
        source_url_in_text,
    ),
    Rule(
        "source-host-in-text",
        FAMILY,
        Level.WARNING,
        Todo.MEND,
        "A host name of the source stands in a text.",
        "What is done with it reaches the wrong environment.",
        source_host_in_text,
    ),
    Rule(
        "source-id-in-text",
        FAMILY,
        Level.WARNING,
        Todo.MEND,
        "A native id of the source stands where it isn't rewritten.",
        "On the far side it names nothing, or something else.",
        source_id_in_text,
    ),
    Rule(
        "address-inside",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "A part of an item leads to another machine, and is no connection that the crosswalk serves.",
        "On the far side it reaches the same machine, be it one for tests.",
        address_inside,
    ),
    Rule(
        "address-in-text",
        FAMILY,
        Level.WARNING,
        Todo.DECIDE,
        "Somebody's mail address or account stands in clear.",
        "Mail from the far side reaches a person of the source.",
        address_in_text,
    ),
)
