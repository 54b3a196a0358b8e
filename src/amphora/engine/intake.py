"""The intake: what of a package goes into an environment, in the shape and under the titles that it has there."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from amphora.core.form.again import as_read_today
from amphora.core.form.attachments import without_attachments
from amphora.core.form.declared import secret_faults
from amphora.core.form.routes import Converted, converted_contents
from amphora.core.needs.needs import needs_of, types_of
from amphora.core.plan.arrivals import Arrival, arranged, joined
from amphora.core.plan.decisions import WITHOUT, Decisions
from amphora.core.values.errors import UsageFault
from amphora.core.values.keys import Key
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents
from amphora.core.values.next_step import to_type
from amphora.engine.check import sheets_for, sheets_packed
from amphora.engine.leaks import refuse_faults
from amphora.engine.session import Opened, Session


@dataclass(frozen=True)
class Intake:
    """A package as one environment takes it in. `contents` are what goes in, `packed` all that it holds, both as they
    are to arrive; `since` is what served as base, `said` what was decided, of the keys that items have here;
    `omissions` tells of items whether they stay out from now on."""

    contents: Contents
    packed: Contents
    since: Contents | None
    said: Decisions
    arrivals: Mapping[Key, Arrival]
    converted: tuple[Converted, ...]
    omissions: Mapping[Key, bool]


def taken_in(session: Session, contents: Contents, opened: Opened, said: Decisions, since: Contents | None) -> Intake:
    """The intake of a package; refused where it breaks what the target's sheets say of secrets."""
    sheets = opened.description.sheets
    # Before anything is compared: all sides have the shape that the target has.
    contents, converted, keys = converted_contents(contents, sheets, sheets_packed(contents))
    contents = as_read_today(contents, sheets)
    since = as_read_today(converted_contents(since, sheets, sheets_packed(since))[0], sheets) if since else None
    said = said.under(keys) if keys else said
    remembered = session.ledger.arrivals(opened.description.uid, contents.name, contents.source_uid)
    arrivals = joined(remembered, said.arrivals)
    omitted = session.ledger.omitted(opened.description.uid, contents.name, contents.source_uid)
    said = said.left_as_before(omitted)
    # Whatever looks at a title or folder from here on has to see the one that it will have there.
    packed = arranged(contents, arrivals)
    items = packed.items.items()
    refuse_faults(
        packed, ((k, *fault) for k, i in items if i.kind in sheets for fault in secret_faults(i, sheets[i.kind]))
    )
    left = [key for key in said.left_out if key in packed.items]
    contents = lacking(reduced(packed, said.without, session), left)
    # Whatever comes along by now is no longer left out.
    omissions = {**dict.fromkeys(left, True), **{key: False for key in omitted if key in contents.items}}
    return Intake(contents, packed, since, said, arrivals, converted, omissions)


def reduced(contents: Contents, without: Collection[str], session: Session | None = None) -> Contents:
    """What of a package is taken into an environment."""
    if unknown := sorted(set(without) - set(WITHOUT)):
        raise UsageFault(
            f"--without takes {' or '.join(WITHOUT)}, not {unknown[0]!r}.", next_step=to_type("import", "--help")
        )
    items = dict(contents.items)
    if "access" in without:
        sheets = sheets_for(contents, None)
        used = {key for item in items.values() for key in item.uses()}
        # A rule that something in the package uses is needed there, whatever it gives access to.
        rules = {k for k, item in items.items() if item.kind in sheets and sheets[item.kind].is_access} - used
        contents = lacking(contents, sorted(rules))
        items = dict(contents.items)
    if "attachments" in without:
        items = {key: without_attachments(item) for key, item in items.items()}
        contents = replace(contents, items=items, files={})
    return contents


def lacking(contents: Contents, keys: Collection[Key]) -> Contents:
    """The contents without some items, of which needs are made."""
    if not keys:
        return contents
    items = {key: item for key, item in contents.items.items() if key not in keys}
    return replace(contents, items=items, needs=tuple(needs_of(items, types_of(contents.needs))))
