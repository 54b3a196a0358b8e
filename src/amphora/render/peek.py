"""Results of looking round: workspace, environments, survey, packages."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import reduce
from pathlib import Path

from amphora.core.values.keys import Key, readable
from amphora.core.values.model import Contents, Item, Listed
from amphora.core.values.next_step import NOTHING, NextStep, advice, blank, to_type
from amphora.core.values.words import counted, few, of_release
from amphora.engine.run_verdicts import of_workspace
from amphora.environments.contract import Description, Identity
from amphora.files.rows import count_rows
from amphora.files.workspace import EnvironmentEntry
from amphora.ledger.records import Campaign, Entry, Run, ending
from amphora.render.aftercare import care_blocks
from amphora.render.changes import item_json
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, Tone, to_do


def init_result(folder: Path, named: Path) -> Result:
    """A workspace was started in a folder that was `named` like this."""
    trying = advice("With nothing at hand, four simulated environments", to_type("practice", "new", str(named)))
    return Result(
        "init",
        f"Started a workspace in {folder}.",
        "good",
        blocks=[Lines([to_do(trying)])],
        data={"workspace": str(folder)},
        next_step=to_type("env", "add", blank("NAME"), blank("LOCATION"), "--role", blank("ROLE")),
    )


def env_added_result(entry: EnvironmentEntry) -> Result:
    """An environment was added."""
    return Result(
        "env add",
        f"Added {entry.name} ({entry.role}) at {entry.place}.",
        "good",
        data={"environment": entry.name, "location": entry.location, "role": entry.role},
        next_step=to_type("survey", entry.name),
    )


def env_removed_result(name: str) -> Result:
    """An environment was taken out of the workspace."""
    words = f"{name} is no longer in this workspace; nothing in it was touched, and the ledger still knows it."
    return Result("env remove", words, "good", data={"environment": name}, next_step=to_type("env", "list"))


def env_renamed_result(old: str, name: str, places: Sequence[str]) -> Result:
    """An environment was given another name; `places` are where that was written."""
    words = f"{old} is called {name} from now on: in {few(list(places), 8)}."
    data = {"environment": name, "was": old, "written": list(places)}
    return Result("env rename", words, "good", data=data, next_step=to_type("env", "list"))


def env_list_result(entries: Sequence[EnvironmentEntry]) -> Result:
    """The environments of the workspace."""
    rows: list[Row] = [
        [Cell(e.name, "strong"), e.role, e.region, e.customer, e.sign_in or "open", Cell(e.place, "dim")]
        for e in entries
    ]
    # Where things are built is where a first look leads on.
    first = next((entry.name for entry in entries if entry.role == "build"), entries[0].name if entries else "")
    return Result(
        "env list",
        f"{counted(len(entries), 'environment')} in this workspace." if entries else "No environment yet.",
        blocks=[Grid(["name", "role", "region", "customer", "sign-in", "location"], rows, spare=(3, 4))]
        if rows
        else [],
        data={"environments": [vars(entry) for entry in entries]},
        next_step=to_type("survey", first) if first else to_type("env", "add", blank("NAME"), blank("LOCATION")),
    )


def signed_in_result(name: str) -> Result:
    """A secret was put into the keyring."""
    verdict = f"The secret for {name} is in the system keyring."
    return Result("env sign-in", verdict, "good", data={"environment": name}, next_step=to_type("env", "test", name))


def workspace_result(
    folder: Path,
    environments: Sequence[str],
    packages: Sequence[str],
    runs: Sequence[Run],
    many: Sequence[Campaign] = (),
    still: Sequence[Entry] = (),
) -> Result:
    """Where a workspace stands: what is open, and the next command; `still` is what is to be done after imports."""
    # First of all: an open run is why somebody came back to this folder.
    unsettled = [run for run in runs if run.is_open]
    last = f"; the last run is {runs[0].name}, {ending(runs[0], runs[0].state)}" if runs else ""
    what = f"{counted(len(environments), 'environment')}, {counted(len(packages), 'package')}"
    rows: list[Row] = [[Cell(r.name, "strong"), f"{r.package} {r.version}", Cell(r.state, "warn")] for r in unsettled]
    rows += [[Cell(c.name, "strong"), f"{c.package} {c.version}", Cell(c.state, "warn")] for c in many]
    blocks: list[Block] = [Grid(["run", "package", "state"], rows)] if rows else []
    blocks.append(Lines([Cell(f"{folder}: {what}{last}.", "dim")]))
    data = {"environments": list(environments), "packages": list(packages), "open_runs": [r.name for r in unsettled]}
    data["open_campaigns"] = [campaign.name for campaign in many]
    data["aftercare"] = [str(entry.number) for entry in still]
    # Before everything else but the verdict: it is what is left to do.
    blocks[:0] = care_blocks(still)
    tasks = [entry.task for entry in still]
    return Result.of("amphora", of_workspace(environments, packages, runs, many, tasks), blocks, data)


def env_test_result(entry: EnvironmentEntry, description: Description, identity: Identity) -> Result:
    """What an environment says of itself."""
    # What it means, and not what it is called: nobody knows by heart what an import needs.
    consequences = {
        "read": "nothing can be read",
        "write": "nothing can be imported",
        "publish": "new versions arrive unpublished",
        "switch": "flows arrive switched off",
        "retire": "nothing can be removed, and created items can't be put back",
        "grant": "access rules have to stay out (--without access)",
    }
    rows: list[Row] = [
        [
            may,
            Cell("yes", "good") if may in identity.permissions else Cell("no", "warn"),
            "" if may in identity.permissions else then,
        ]
        for may, then in consequences.items()
    ]
    rows += [
        [f"{may}, of the kind {kind}", Cell("no", "warn"), "the account lacks a right for this kind"]
        for may, kind in sorted(identity.lacks)
    ]
    can = description.capabilities
    rows += [
        [Cell(what, "strong"), Cell("yes", "good") if is_so else Cell("no", "warn"), "" if is_so else then]
        for what, is_so, then in (
            ("writes all in one call", can.is_atomic, "item by item; what was done is put back if a step fails"),
            ("keeps ids", can.keeps_ids, "created items get new ids and links; a list of both comes out"),
            ("has drafts", can.has_drafts, "whatever is written is live at once"),
            ("switches by writing", can.writes_states, "switching on and off are steps of their own"),
            ("holds rows of tables", can.has_rows, "rows can't be taken along"),
            ("guards its writes", can.is_guarded, "looked at just before; the moment between is nobody's"),
        )
    ]
    release, tried = description.release, description.tried
    told = of_release(release, ": ")
    # 6.1 was tried if 6.1.0 was: whoever writes a sheet names what they had before them.
    is_tried = not tried or any(release == one or release.startswith(f"{one}.") for one in tried)
    words = (
        f"Its bridge sheet was tried with {', '.join(tried)}, and this is {release or 'one that it does not tell'}"
    )
    doubts: list[Block] = (
        [] if is_tried else [Lines([Cell(f"{words}: prove it on a test environment first.", "warn")])]
    )
    return Result(
        "env test",
        f"{entry.name} answers{told}, signed in as {identity}.",
        "good",
        [*doubts, Grid(["may, or can", "", "otherwise"], rows)],
        {
            "uid": description.uid,
            "release": description.release,
            "tried": list(tried),
            "account": identity.account,
            "permissions": sorted(identity.permissions),
            "lacks": [{"permission": may, "kind": kind} for may, kind in sorted(identity.lacks)],
            "capabilities": vars(can),
        },
        to_type("survey", entry.name),
    )


def peek_result(contents: Contents, target: str, signature: str, is_required: bool | None) -> Result:
    """What is in a package, and what its `signature` is worth; `is_required` is None where no workspace says."""
    from amphora.files.package import FORMAT

    rows: list[Row] = [
        [Cell(readable(key), "strong"), item.states.title, _package_state(item), str(len(item.places))]
        for key, item in sorted(contents.items.items())
    ]
    needs: list[Row] = [
        [
            need.kind,
            readable(need.key).partition(":")[2],
            need.type,
            Cell(", ".join(map(readable, need.used_by)), "dim"),
        ]
        for need in contents.needs
    ]
    blocks: list[Block] = [Grid(["item", "title", "state", "tokens"], rows, right=(3,))]
    if needs:
        blocks.append(Grid(["kind", "name", "type", "used by"], needs, "It needs, and does not carry:"))
    if contents.notes:
        rows = [[Cell(readable(key), "strong"), text] for key, text in sorted(contents.notes.items())]
        blocks.append(Grid([], rows, "Its maker says"))
    blocks.append(
        Lines(
            [
                Cell(f"package digest  {contents.package_digest}", "dim"),
                Cell(f"contents digest {contents.digest()}", "dim"),
            ]
        )
    )
    # Counted by reading through them: how many rows there are stands nowhere else.
    if contents.records:
        told = [f"{count_rows(raw):,} of {contents.items[key].states.title}" for key, raw in contents.records.items()]
        blocks.append(Lines([f"It holds rows: {few(told, 6)}. They go in only with --with records."]))
    words = f"It is {signature}"
    if is_required is not None:
        policy = "requires a signature by a trusted key" if is_required else "asks for no signature"
        words += f"; this workspace {policy}"
    # Not signed is nothing to worry about, until a workspace asks for it; signed by somebody unknown is worth a look.
    tone: Tone = "warn" if contents.signature else "dim"
    tone = "good" if "by a trusted" in signature else "bad" if is_required else tone
    blocks.append(Lines([Cell(f"{words}.", tone)]))
    if contents.format_minor > FORMAT[1]:
        note = f"Its format 1.{contents.format_minor} is newer than this Amphora; what it adds was not read."
        blocks.append(Lines([Cell(note, "warn")]))
    state = "a folder to be edited" if contents.is_edited else "every digest is right"
    return Result(
        "peek",
        f"{contents.title} from {contents.source}: {counted(len(contents.items), 'item')},"
        f" {counted(len(contents.needs), 'need')}; {state}.",
        blocks=blocks,
        data={
            "name": contents.name,
            "version": contents.version,
            "source": {"name": contents.source, "uid": contents.source_uid},
            "note": contents.note,
            "notes": dict(contents.notes),
            "items": [item_json(item) for _, item in sorted(contents.items.items())],
            "needs": [{"key": n.key, "type": n.type, "used_by": list(n.used_by)} for n in contents.needs],
            "records": {key: count_rows(raw) for key, raw in sorted(contents.records.items())},
            "signature": signature,
            "signature_required": bool(is_required),
            "package_digest": contents.package_digest,
            "contents_digest": contents.digest(),
        },
        next_step=to_type("check", contents.spoken, target),
    )


def peek_item_result(contents: Contents, key: Key) -> Result:
    """One item of a package, in portable form."""
    from amphora.core.values.strict_json import pretty_bytes

    item = contents.items[key]
    # Raw, for once: whoever looks at one item of a package looks for a fault in it.
    places: list[Row] = [[place.pointer, place.token, "in a text" if place.in_text else ""] for place in item.places]
    return Result(
        "peek",
        f"{readable(key)} ({item.states.title}) in {contents.title}, schema {item.schema}.",
        blocks=[
            Lines(pretty_bytes(item.form).decode().splitlines(), "Portable form"),
            Grid(["place", "token", ""], places, "Rewritten in each environment"),
        ],
        data={**item_json(item), "form": item.form, "layout": item.layout},
        next_step=to_type("peek", contents.spoken),
    )


def _package_state(item: Item) -> str:
    on = {True: "on", False: "off", None: ""}[item.states.is_on]
    return ", ".join(word for word in ("live" if item.states.is_published else "", on) if word)


def edited_result(path: Path, row: Listed, is_known: bool) -> Result:
    """Somebody edited an item in a practice environment, which a workspace knows, or none does."""
    data = {"file": str(path), "native_id": row.native_id, "title": row.states.title}
    verdict = f"{row.states.title} is changed in {path.stem}, past Amphora."
    after = to_type("survey", path.stem) if is_known else NOTHING
    return Result("practice edit", verdict, "good", data=data, next_step=after)


def connected_result(path: Path, name: str, native_id: str, is_waited_for: bool) -> Result:
    """Somebody made a connection in a practice environment, for which a run may have waited."""
    data = {"file": str(path), "native_id": native_id, "name": name}
    verdict = f"The connection {name} is in {path.stem} now, past Amphora."
    after = to_type("resume") if is_waited_for else NOTHING
    return Result("practice connect", verdict, "good", data=data, next_step=after)


def served_result(
    addresses: Mapping[str, str],
    account: str,
    variable: str,
    new_secret: str,
    options: Mapping[str, Sequence[str]],
) -> Result:
    """Practice environments answer over HTTP; the secret is told where it was just made up."""
    rows: list[Row] = [[Cell(name, "strong"), address] for name, address in addresses.items()]
    sign_in = ("--user", account, "--sign-in", f"env:{variable}")
    first, *others = (
        to_type("env", "add", name, address, *options[name], *sign_in) for name, address in addresses.items()
    )
    known = f"export {variable}={new_secret}" if new_secret else f"The secret is that in {variable}."
    return Result(
        "practice serve",
        f"{counted(len(rows), 'practice environment')} can be reached, until you interrupt this.",
        "good",
        blocks=[Grid(("environment", "address"), rows), Lines([Cell("In another terminal:", "dim"), Cell(known)])],
        data={"addresses": dict(addresses), "account": account, "variable": variable, "new_secret": new_secret},
        next_step=reduce(NextStep.then, others, first),
    )


def trouble_result(path: Path, after: int) -> Result:
    """A practice environment will refuse a change."""
    verdict = f"{path.stem} will refuse the next change."
    if after:
        verdict = f"{path.stem} will take {counted(after, 'change')} more, and refuse the one after that."
    return Result("practice trouble", verdict, "good", data={"file": str(path), "after": after})


def practice_result(
    paths: Sequence[Path], added: Sequence[str], has_workspace: bool, options: Mapping[str, Sequence[str]]
) -> Result:
    """The practice environments were made; `added` are those that the workspace did not have."""
    rows: list[Row] = [[Cell(path.stem, "strong"), str(path)] for path in paths]
    words = (
        f", and added {'them' if len(added) == len(paths) else ', '.join(added)} to the workspace" if added else ""
    )
    after = to_type("survey", paths[0].stem)
    if not has_workspace:
        # Nothing can be added yet: the next commands make a workspace, and add them all.
        adding = (to_type("env", "add", path.stem, f"practice:{path}", *options[path.stem]) for path in paths)
        after = reduce(NextStep.then, adding, to_type("init"))
    return Result(
        "practice new",
        f"Made {counted(len(paths), 'practice environment')}{words}.",
        "good",
        [Grid([], rows)],
        {"files": [str(path) for path in paths], "added": list(added)},
        after,
    )
