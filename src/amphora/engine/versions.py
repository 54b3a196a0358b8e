"""Versions: which one a package gets for its contents (SemVer 2.0.0)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from pathlib import Path

import orjson

from amphora.core.form.kinds import Sheets, parse_sheet
from amphora.core.merge.merge import differences
from amphora.core.values.canon import digest
from amphora.core.values.errors import AmphoraError, NotReady, UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item, Json
from amphora.core.values.next_step import advice
from amphora.core.values.pointers import parse_pointer
from amphora.core.values.versions import is_version, version_order
from amphora.engine.session import Session
from amphora.files.package import read_package
from amphora.files.store import Store, VersionTaken
from amphora.ledger.records import Export

FIRST_VERSION = "1.0.0"
ATTEMPTS = 5


def version_for(session: Session, contents: Contents, wanted: str | None) -> tuple[str, bool]:
    """The version for these contents, and whether they were exported as that before."""
    past = past_exports(session, contents)
    if wanted is not None:
        if not is_version(wanted):
            raise UsageFault(
                f"{wanted!r} is no version as SemVer 2.0.0 has it.", next_step=advice("Write it like 1.4.0")
            )
        # Asked for by name it may be any, an older line too; but never one that others have with other contents.
        taken = [export for export in past if export.version == wanted]
        if taken and not _is_same(taken[-1], contents):
            what = "with other contents"
            what = f"from {taken[-1].environment}" if taken[-1].uid != contents.source_uid else what
            raise UsageFault(
                f"{contents.name} {wanted} exists {what}.",
                subject=wanted,
                next_step=advice("Choose a higher version, or leave --version out."),
            )
        if taken and not _is_said_there(taken[-1], contents):
            raise UsageFault(
                f"{contents.name} {wanted} exists with other notes, or another word on what has to follow.",
                subject=wanted,
                next_step=advice("Choose a higher version, or leave --version out."),
            )
        return wanted, bool(taken)
    if not past:
        return FIRST_VERSION, False
    # By number and not by time: somebody may have mended an older line last.
    last = max(past, key=lambda export: version_order(export.version))
    if _is_same(last, contents) and _is_said_there(last, contents):
        return last.version, True
    exported = session.ledger.exports.version(contents.name, last.version)
    before: Iterable[tuple[Key, Json]] = ((key, orjson.loads(text)) for key, text, _ in exported)
    # Found in the store only: its forms are in the package, not in the ledger.
    if last.version not in {export.version for export in session.ledger.exports.of(contents.name)}:
        there = read_package(Path(last.file))
        before = [(key, item.form) for key, item in there.items.items()]
    sheets = {kind: parse_sheet(source, kind) for kind, source in contents.sheets.items()}
    return next_version(last.version, before, contents.items, sheets), False


@dataclass(frozen=True)
class Growth:
    """What changed since the version before: items that are new, changed (with what about them) and gone;
    `is_laid_out_anew` where their layout did, `is_wanted` where somebody said what the version is to be."""

    since: str
    new: tuple[Key, ...] = ()
    changed: Mapping[Key, str] = field(default_factory=dict)
    gone: tuple[Key, ...] = ()
    is_laid_out_anew: bool = False
    is_wanted: bool = False

    def why(self, version: str) -> str:
        """Why the number is what it is, in words."""
        if self.is_wanted:
            return f"{version}, as was asked"
        if self.gone:
            return f"{version}, for something is no longer in it"
        before, now = (one.partition("-")[0].split(".")[:2] for one in (self.since, version))
        if before == now and self.changed:
            return f"{version}, for only texts, states or layout differ"
        if before == now:
            return f"{version}, for only {'the layout' if self.is_laid_out_anew else 'what is said with it'} differs"
        return f"{version}, for {'something is new' if self.new else 'more than texts and states changed'}"


def growth_of(session: Session, contents: Contents, is_wanted: bool) -> Growth | None:
    """What changed since the highest version before these contents'; None where the ledger knows of none."""
    known = {one.version: one for one in session.ledger.exports.of(contents.name)}
    mine = version_order(contents.version)
    lower = [one for one in known if is_version(one) and version_order(one) < mine]
    if not lower:
        return None
    since = max(lower, key=version_order)
    is_laid_out_anew = known[since].layout_digest not in ("", contents.layout_digest())
    # Bytes against bytes: forms are written in one way only, and parsing ten thousand would take seconds.
    rest = dict(contents.items)
    changed: dict[Key, str] = {}
    gone = []
    for key, text, states in session.ledger.exports.version(contents.name, since):
        item = rest.pop(key, None)
        if item is None:
            gone.append(key)
            continue
        what = [] if text == item.form_bytes else ["changed"]
        if states.title != item.states.title:
            what.append(f"renamed, it was {states.title}")
        elif states != item.states:
            what.append("on, off or published otherwise" if states.folder == item.states.folder else "moved")
        if what:
            changed[key] = "; ".join(what)
    return Growth(since, tuple(sorted(rest)), changed, tuple(sorted(gone)), is_laid_out_anew, is_wanted)


def past_exports(session: Session, contents: Contents) -> list[Export]:
    """What was exported under this name: as the ledger tells, and as the newest package in the store does, which a
    ledger that was lost, or somebody who is exporting just now, doesn't know of."""
    past = session.ledger.exports.of(contents.name)
    known = {export.version for export in past}
    unknown = {
        v: path for v, path in Store(session.workspace.packages).versions(contents.name).items() if v not in known
    }
    if unknown:
        newest = max(unknown, key=version_order)
        found = read_package(unknown[newest])
        digests = (found.digest(), found.package_digest, str(unknown[newest]), found.layout_digest())
        past.append(Export("", found.source, found.name, newest, *digests, found.source_uid))
    return past


def stored(
    session: Session, contents: Contents, wanted: str | None = None, out: Path | None = None
) -> tuple[Contents, Path, bool]:
    """The contents under their version, written into the store and recorded; and whether they were there already.
    Where somebody else takes the version in the meantime, the next one is tried."""
    store = Store(session.workspace.packages)
    for attempt in range(ATTEMPTS):
        version, is_known = version_for(session, contents, wanted)
        named = replace(contents, version=version)
        path = out or store.path_of(named)
        # Known and there: nothing is written, and the file keeps its time.
        if is_known and out is None and path.is_file():
            return replace(named, package_digest=""), path, True
        try:
            path, digest = store.put(named, out)
            if not is_known or version not in {export.version for export in session.ledger.exports.of(contents.name)}:
                session.ledger.exports.record(named, digest, str(path))
            return replace(named, package_digest=digest), path, is_known
        except (VersionTaken, NotReady):
            if attempt == ATTEMPTS - 1 or wanted is not None or out is not None:
                raise
    raise AssertionError("unreachable")


def _is_same(export: Export, contents: Contents) -> bool:
    """Whether these contents were exported so, to the layout (which older ledgers don't remember). From another
    source it is another package, whatever it holds: what it brings would be somebody else's."""
    is_laid_out = export.layout_digest in ("", contents.layout_digest())
    return is_laid_out and export.contents_digest == contents.digest() and export.uid == contents.source_uid


def _is_said_there(last: Export, contents: Contents) -> bool:
    """Whether a package says already what is to be said with it. Notes are no contents, and yet what somebody wrote
    must not be lost because nothing else changed."""
    if not contents.note and not contents.notes and not contents.afterwards:
        return True
    try:
        there = read_package(Path(last.file))
    except AmphoraError:
        return True
    return (there.note, dict(there.notes), there.afterwards) == (
        contents.note,
        dict(contents.notes),
        contents.afterwards,
    )


def next_version(last: str, before: Iterable[tuple[Key, Json]], items: Mapping[Key, Item], sheets: Sheets) -> str:
    """From the forms then and the items now. Item removed: major; new or changed: minor; only texts, states
    or layout: patch."""
    major, minor, patch = (int(part) for part in last.partition("-")[0].partition("+")[0].split("."))
    rest = set(items)
    is_small = True
    for key, form in before:
        if key not in rest:
            # Somebody's item would be up for retirement: that is what a major number warns of.
            return f"{major + 1}.0.0"
        rest.remove(key)
        # Digests first: most items of a next version are as they were.
        is_small = is_small and (digest(form) == items[key].digest or _is_text_only(form, items[key], sheets))
    return f"{major}.{minor}.{patch + 1}" if is_small and not rest else f"{major}.{minor + 1}.0"


def _is_text_only(before: Json, item: Item, sheets: Sheets) -> bool:
    """Whether only text fields of an item differ."""
    start = sheets[item.kind].places.walk(item.form)
    for change in differences(before, item.form, start):
        walk = start
        for part in parse_pointer(change.place.removesuffix(" (order)")):
            walk = walk.step(part)
        if not walk.spot.is_text:
            return False
    return True
