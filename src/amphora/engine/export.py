"""Export: what is asked for, all that it uses, in portable form, as a package."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from tempfile import TemporaryDirectory

from amphora.core.form.routes import with_sheets
from amphora.core.needs.crosswalk import SECTIONS, row_name
from amphora.core.needs.matches import Link
from amphora.core.needs.needs import needs_of
from amphora.core.needs.selection import choose, lasting, still_there
from amphora.core.needs.supplies import Supplies
from amphora.core.plan.claims import Claims
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key, readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Item, Listed, Need
from amphora.core.values.next_step import NextStep, advice, to_type
from amphora.core.values.raw import Raw
from amphora.core.values.tokens import NEED_KINDS
from amphora.core.values.versions import version_order
from amphora.engine.gathered import Gathered, access_rules, gather, gather_once
from amphora.engine.leaks import leaks_in, leaks_in_settings, refuse_to_pack
from amphora.engine.session import Session
from amphora.engine.sides import OWN_ADDRESS, Side, own_side, read_items
from amphora.engine.versions import Growth, growth_of, stored, version_for
from amphora.environments.contract import HoldsRows, Take
from amphora.files.crosswalk_file import Cell, write_cells
from amphora.files.folder import OnDisk
from amphora.files.names import checked_name
from amphora.files.rows import write_rows
from amphora.files.store import Store


@dataclass(frozen=True)
class ExportReport:
    """What an export did. `why` tells of each item who asked for it or which item uses it; `drafts` are
    the packed items with unpublished edits; `cells` the crosswalk rows that were written. `asked` and
    `leave_out` repeat the request in names that survive renaming."""

    contents: Contents
    path: Path
    shown_path: Path
    package_digest: str
    is_unchanged: bool
    why: Mapping[Key, str]
    left_out: tuple[Key, ...]
    drafts: tuple[Listed, ...]
    cells: tuple[Cell, ...]
    take: Take
    is_preview: bool = False
    asked: tuple[str, ...] = ()
    leave_out: tuple[str, ...] = ()
    has_access: bool = False
    has_records: bool = False
    has_attachments: bool = True
    contents_digest: str = ""
    dropped: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)
    growth: Growth | None = None
    """What changed since the version before; None for a first one."""
    rows: Mapping[Key, int] = field(default_factory=dict)
    """How many rows the packed tables have in the source, whether they go along or not."""
    gone: tuple[str, ...] = ()
    """What a saved selection named, and is no longer in the source."""
    dead: Mapping[Key, tuple[str, ...]] = field(default_factory=dict)
    """The places of ids that led nowhere in the source, and were left out."""
    said: tuple[tuple[str, ...], ...] = ()
    """What else was typed, such as notes."""

    @property
    def command(self) -> NextStep:
        """The command that does what was previewed."""
        words = [self.contents.source, *self.asked, "--as", self.contents.name]
        words += [part for key in self.leave_out for part in ("--leave-out", key)]
        words += ["--take", "draft"] if self.take == "draft" else []
        words += ["--with", "access"] if self.has_access else []
        words += ["--with", "records"] if self.has_records else []
        words += [] if self.has_attachments else ["--without", "attachments"]
        words += [word for option in self.said for word in option]
        return to_type("export", *words)


@dataclass(frozen=True)
class ExportRequest:
    """What is to be exported, and how. With `access`, access rules for what is packed come along, with `records`
    the rows of tables; without `attachments`, the target keeps its own. A `preview` writes nothing."""

    environment: str
    wanted: Sequence[str]
    name: str
    leave_out: Sequence[str] = ()
    take: Take = "live"
    version: str | None = None
    out: Path | None = None
    note: str = ""
    notes: tuple[tuple[str, str], ...] = ()
    """Words on single items, each with the item in any naming."""
    afterwards: tuple[str, ...] = ()
    """What is to be done after each import, in the words of whoever exports."""
    access: bool = False
    records: bool = False
    attachments: bool = True
    preview: bool = False
    is_saved: bool = False
    """Whether it is a selection that was saved: what is no longer there then drops out, and is named."""


def _kept_wishes(request: ExportRequest, side: Side) -> tuple[ExportRequest, tuple[str, ...]]:
    """A saved request without what was removed since; and what that was. Where nothing at all is left it stays as it
    is, to be refused."""
    wanted, gone = still_there(request.wanted, side.by_key, request.environment)
    left, _ = still_there(request.leave_out, side.by_key, request.environment)
    return (replace(request, wanted=wanted, leave_out=left), tuple(gone)) if wanted else (request, ())


def export(session: Session, request: ExportRequest) -> ExportReport:
    """Exports items and what they use; writes the package, the crosswalk's source rows and the ledger. Nothing is
    written for contents that the last version holds already, unless `out` names another file."""
    name, environment = request.name, request.environment
    checked_name(name, "a package")
    opened = session.open(environment)
    side = own_side(opened, session.ledger, session.crosswalk)
    request, gone = _kept_wishes(request, side) if request.is_saved else (request, ())
    asked = choose(request.wanted, side.by_key, environment)
    # Chosen in the same words and by the same index as what is asked for: an item has one name for both.
    left = set(choose(request.leave_out, side.by_key, environment)) if request.leave_out else set()
    # Silently preferring one of them would make a package that somebody didn't mean.
    if both := sorted(left & set(asked)):
        raise UsageFault(
            f"{readable(both[0])} is both asked for and left out.",
            subject=both[0],
            next_step=advice("Name it once."),
        )
    rules: dict[Key, str] = {}
    if request.access:
        packed = gather_once(session, side, asked, request, left).items
        # Known only once it is clear what is packed; then everything is read again, of one moment.
        found = access_rules(side, packed, request.take)
        rules = {key: why for key, why in found.items() if key not in left and key not in asked}
    gathered = gather(session, side, sorted([*asked, *rules]), request, left)
    gathered.why.update(rules)
    needs = _with_seen(session, side, needs_of(gathered.items, _need_types(side)), request)
    contents = Contents(name, "0.0.0", environment, side.uid, gathered.items, needs, request.note)
    contents = replace(
        with_sheets(contents, opened.description.sheets),
        files=gathered.files,
        source_release=opened.description.release,
        notes=_notes(request, side, gathered.items),
        afterwards=request.afterwards,
    )
    # Before anything is written, be it a preview: what was on the disk once may be in a backup.
    refuse_to_pack(
        [
            *leaks_in(contents, opened.description.sheets, session.guard),
            *leaks_in_settings(contents, side.names.values, session.guard),
        ]
    )
    with TemporaryDirectory(prefix="amphora-") as spool:
        if request.records:
            contents = replace(contents, records=_spooled(session, side, gathered.items, Path(spool)))
            # Rows as well: people type everything everywhere.
            refuse_to_pack(leaks_in(replace(contents, items={}, files={}), {}, session.guard))
        return replace(_packed(session, side, contents, gathered, request, left), gone=gone)


def _notes(request: ExportRequest, side: Side, items: Mapping[Key, Item]) -> dict[Key, str]:
    found = {}
    for name, text in request.notes:
        for key in choose([name], side.by_key, request.environment):
            # A note on what is not packed would be read by nobody.
            if key not in items:
                raise UsageFault(
                    f"{readable(key)} is not in the package: nobody would see the note on it.",
                    subject=key,
                    next_step=advice("Name an item that is packed, or pack this one too."),
                )
            found[key] = text
    return found


def _spooled(session: Session, side: Side, items: Mapping[Key, Item], folder: Path) -> dict[Key, Raw]:
    """The rows of the packed tables as JSON Lines, in files: they never are in memory together."""
    environment = side.opened.environment
    result: dict[Key, Raw] = {}
    if not isinstance(environment, HoldsRows):
        raise UsageFault(f"{side.name} has no tables with rows.", next_step=advice("Leave --with records out."))
    for number, (key, item) in enumerate(items.items()):
        if side.by_key[key].rows:
            path = folder / f"{number}.jsonl"
            write_rows(path, environment.records(item.native_id))
            session.listener(f"reading rows of {key}", number, len(items))
            result[key] = OnDisk(path)
    return result


def _packed(
    session: Session, side: Side, contents: Contents, gathered: Gathered, request: ExportRequest, left: set[Key]
) -> ExportReport:
    """Gives the version, writes the package, the crosswalk and the ledger, and tells about it."""
    environment, out = side.name, request.out
    dropped = _dropped(session, contents)
    cells: list[Cell] = []
    if request.preview:
        version, is_unchanged = version_for(session, contents, request.version)
        contents = replace(contents, version=version)
        path = out or Store(session.workspace.packages).path_of(contents)
    else:
        contents, path, is_unchanged = stored(session, contents, request.version, out)
        # Written elsewhere, it is named by where it lies.
        contents = replace(contents, file=str(path)) if out else contents
        # A preview, or a version that holds the same: the crosswalk has its rows already.
        if contents.package_digest:
            cells = write_cells(session.workspace.crosswalk, _cells(contents, side))
        if not is_unchanged:
            session.ledger.record_links([_link(item, side) for item in contents.items.values()], _addresses(contents))
    drafts = tuple(side.by_key[key] for key in gathered.items if side.by_key[key].has_draft)
    # What was left out and is used all the same has to be in every target already: that is worth saying now.
    outside = tuple(sorted(left & {used for item in gathered.items.values() for used in item.uses()}))
    shown = path.relative_to(folder) if path.is_relative_to(folder := session.workspace.folder) else path
    return ExportReport(
        contents,
        path,
        shown,
        contents.package_digest,
        is_unchanged,
        gathered.why,
        outside,
        drafts,
        tuple(cells),
        request.take,
        request.preview,
        tuple(lasting(request.wanted, side.by_key, environment)),
        tuple(lasting(request.leave_out, side.by_key, environment)),
        request.access,
        request.records,
        request.attachments,
        contents.digest(),
        dropped,
        None if is_unchanged else growth_of(session, contents, request.version is not None),
        {key: count for key in gathered.items if (count := side.by_key[key].rows)},
        dead=gathered.dead,
    )


def _with_seen(session: Session, side: Side, needs: Iterable[Need], request: ExportRequest) -> tuple[Need, ...]:
    """The needs, those for items with the digest that these have now, so that a target's can be compared."""
    found = list(needs)
    at_home = [n.key for n in found if n.key in side.by_key and not side.by_key[n.key].is_drafted_only]
    guides = session.ledger.last_forms(side.uid, at_home)
    read, _, _ = read_items(side, at_home, request.take, guides, binds_new=True)
    return tuple(replace(need, seen=read[need.key].fingerprint) if need.key in read else need for need in found)


def _dropped(session: Session, contents: Contents) -> dict[Key, tuple[str, ...]]:
    """What the last version held and this one doesn't, with the environments where the package claims it."""
    past = [export.version for export in session.ledger.exports.of(contents.name)]
    if not past:
        return {}
    # By the order of versions, not of exports: a mended old version may be exported last.
    latest = max(past, key=version_order)
    gone = [key for key, *_ in session.ledger.exports.version(contents.name, latest) if key not in contents.items]
    found: dict[Key, tuple[str, ...]] = dict.fromkeys(gone, ())
    names = session.ledger.environments()
    for uid in session.ledger.claimed_by(contents.name, contents.source_uid) if gone else ():
        for key in Claims(session.ledger.claims(uid)).not_held(contents):
            if key in found:
                found[key] = (*found[key], names.get(uid, uid))
    return found


def _need_types(side: Side) -> dict[Key, str]:
    """The native type of each connection and setting that the source's bindings name."""
    types = {supply.native_id: supply.type for supply in side.supplies}
    return {
        key: types.get(value, "") if key.startswith("connection:") else type(value).__name__
        for key, value in side.names.values.items()
        if key.startswith(("connection:", "setting:"))
    }


def _cells(contents: Contents, side: Side) -> Iterable[Cell]:
    offered = Supplies(side.supplies)
    names = {supply.native_id: offered.called(supply) for supply in side.supplies}
    for need in contents.needs:
        # Secrets have no source value to write, and an environment knows its own address.
        if need.kind not in NEED_KINDS or need.kind == "secret" or need.key == OWN_ADDRESS:
            continue
        value = side.names.values[need.key]
        shown = names.get(value, value) if isinstance(value, str) else value
        users = ", ".join(readable(key) for key in need.used_by[:3])
        more = f" and {len(need.used_by) - 3} more" if len(need.used_by) > 3 else ""
        yield Cell(SECTIONS[need.kind], row_name(need.key), side.name, shown, f"needed by {users}{more}")


def _link(item: Item, side: Side) -> Link:
    return Link(item.key, side.uid, item.native_id, side.names.inner.get(item.key, {}))


def _addresses(contents: Contents) -> dict[str, str]:
    return {item.native_id: item.link for item in contents.items.values()}


def listed_items(contents: Contents) -> dict[Key, Listed]:
    """A package's items as an index, so that they can be named like those of an environment."""
    return {
        key: Listed(item.native_id, item.kind, (), item.states, "", item.link) for key, item in contents.items.items()
    }
