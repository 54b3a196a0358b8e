"""Checking: the index of a target that the rules look at, and the rules as the workspace has set them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from urllib.parse import urlsplit

from amphora.core.checks import CheckContext, check
from amphora.core.checks.context import Planned, Reach, TargetIndex
from amphora.core.form.bindings import Bindings
from amphora.core.form.kinds import KindSheet, parse_sheet
from amphora.core.form.objects import used_through
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.plan.docket import Docket
from amphora.core.values.keys import Key
from amphora.core.values.model import Contents, Finding, Item
from amphora.engine.session import Opened, Session
from amphora.engine.sides import Side, read_items
from amphora.environments.contract import Probes
from amphora.files.package import FORMAT
from amphora.files.signatures import judged


def check_alone(session: Session, contents: Contents) -> list[Finding]:
    """The findings about a package by itself, without any target."""
    return found_by_rules(session, contents, sheets_for(contents, None), None)


def found_by_rules(
    session: Session, contents: Contents, sheets: Mapping[str, KindSheet], target: TargetIndex | None
) -> list[Finding]:
    """What the rules find, at the levels that the workspace gives them, less what it has silenced."""
    workspace = session.workspace
    context = CheckContext(
        contents,
        sheets,
        target,
        session.guard,
        judged(contents, workspace.keys).words,
        workspace.is_signature_required,
        tuple(_source_urls(session, contents)),
        FORMAT[1],
    )
    return check(context, workspace.rule_levels, workspace.silenced)


def sheets_packed(contents: Contents) -> list[KindSheet]:
    """The kind sheets that came with a package."""
    return [parse_sheet(source, kind) for kind, source in contents.sheets.items()]


def sheets_for(contents: Contents, opened: Opened | None) -> dict[str, KindSheet]:
    """The target's sheets; a package's own count only for kinds that nobody else knows."""
    packed = {sheet.kind: sheet for sheet in sheets_packed(contents)}
    # The target's over the package's: it is the target that will take or refuse the item.
    return packed | (dict(opened.description.sheets) if opened else {})


def target_index(
    session: Session,
    contents: Contents,
    side: Side,
    docket: Docket,
    present: Mapping[Key, Item],
) -> TargetIndex:
    """What the rules need to know of a target."""
    opened = side.opened
    outside = _outside(contents, side)
    # A copy, because reading binds people that are met for the first time, and these are nobody's business here.
    own = replace(side.names, values=dict(side.names.values), held={})
    read, _, _ = read_items(_named(side, own), outside, binds_new=True)
    sheets = sheets_for(contents, opened)
    # Asked anew each time: rights are given and taken while a package waits.
    identity = opened.environment.whoami()
    return TargetIndex(
        name=opened.name,
        account=identity.account,
        rows=side.by_key,
        sheets=opened.description.sheets,
        features=opened.description.features,
        permissions=identity.permissions,
        mapped=docket.mapped,
        doubtful=side.doubtful,
        present={**read, **present},
        roles=identity.roles,
        lacks=identity.lacks,
        region=opened.description.region or opened.entry.region,
        release=opened.description.release,
        limits=opened.description.limits,
        is_stepwise=not opened.description.capabilities.is_atomic,
        reach=_reach(contents, opened, sheets, docket.mapped),
        dropped=tuple(one.key for one in docket.retirements if not one.along),
        shared=docket.shared,
        planned=tuple(_planned(docket, opened.description.sheets)),
        gone_users={one.key: one.users for one in docket.retirements},
        has_unique_names=opened.description.capabilities.has_unique_names,
        converted=docket.converted,
        of_others=docket.of_others,
        turned=frozenset(side.turned.keys() & {key for item in contents.items.values() for key in item.uses()}),
        severed=docket.severed,
        mixed={action.key: action.as_it_will_be for action in docket.actions if action.is_mixed},
        renamed=session.crosswalk.renamed(opened.name),
    )


def _named(side: Side, names: Bindings) -> Side:
    return replace(side, names=names)


def _outside(contents: Contents, side: Side) -> list[Key]:
    """The items of the target that the package refers to, and those that may refer to what it once brought."""
    used = {key for item in contents.items.values() for key in item.uses()}
    return sorted(
        key
        for key in used
        if key not in contents.items and key in side.by_key and not side.by_key[key].is_drafted_only
    )


def _reach(
    contents: Contents, opened: Opened, sheets: Mapping[str, KindSheet], mapped: Iterable[Mapped]
) -> dict[str, Reach]:
    """Each mapped connection, looked through for what the package uses on its other end."""
    wanted: dict[Key, set[str]] = {}
    for item in contents.items.values():
        for key, names in used_through(item.form, sheets.get(item.kind), item.states.title).items():
            wanted.setdefault(key, set()).update(names)
    result = {}
    for one in mapped:
        if one.state is MapState.MAPPED and one.need.kind == "connection":
            # Where nobody can look, nothing is missing: `verify` says that it was not tried.
            if not isinstance(opened.environment, Probes):
                continue
            probe = opened.environment.probe(str(one.native), sorted(wanted.get(one.need.key, ())))
            result[str(one.native)] = Reach(probe.is_working, frozenset(probe.missing), probe.reason)
    return result


def _planned(docket: Docket, sheets: Mapping[str, KindSheet]) -> Iterable[Planned]:
    """What the import would do to each item, and what the account has to be allowed for it."""
    needed: dict[Key, set[str]] = {}
    for step in docket.steps:
        for key in step.keys:
            needed.setdefault(key, set()).add(step.permission_on(key, sheets))
    for action in docket.actions:
        clashes = tuple(change.place for change in action.comparison.open) if action.comparison else ()
        yield Planned(action.key, action.do.value, frozenset(needed.get(action.key, ())), clashes)


def _source_urls(session: Session, contents: Contents) -> Iterable[str]:
    """The addresses of the source: those of its items' links, and those that the crosswalk gives it."""
    found = set()
    for item in contents.items.values():
        # Scheme and host alone: what leads to one item leads to the source wherever it points.
        parts = urlsplit(item.link)
        if parts.scheme in ("http", "https") and parts.netloc:
            found.add(f"{parts.scheme}://{parts.netloc}")
    for row in session.crosswalk.rows.get("urls", {}).values():
        cell = row.get(contents.source)
        if isinstance(cell, str) and "://" in cell:
            found.add(cell)
    return sorted(found)
