"""Changes that would hurt somebody, chosen by hand: each is made in a copy of the project, and the tests named beside
it have to notice. `python -m sharpness.hurts` prints what they let pass.
"""

from __future__ import annotations

import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from sharpness.mutants import copy_to, is_red

FAULTS, PLAN, MERGE = "tests/faults/test_faults.py", "tests/core/test_restoration.py", "tests/core/test_compare.py"
STORY = "tests/program/test_stories.py::test_a_story[{}.txt]"
CROSSING, TRUST = "tests/contract/test_crossing.py", STORY.format("trust")
DECIDING, DOCKETS = STORY.format("decided"), STORY.format("docketfile")
HELD, HALF = "tests/contract/test_held.py", "tests/contract/test_half_way.py"
SMALL = "tests/contract/test_small_platforms.py"
SHAPES, NODERED = STORY.format("sheets"), "tests/contract/test_nodered.py"
NAMING, SECRETS = "tests/core/test_naming.py", "tests/core/test_secrets.py"


@dataclass(frozen=True)
class Hurt:
    """What would happen to somebody, the change that does it, and the tests that have to go red."""

    what: str
    path: str
    old: str
    new: str
    tests: tuple[str, ...]


HURTS = (
    Hurt("what a sheet has learned since is somebody's edit", "engine/shapes.py", "        if sheet is None or not reads_again(sheet):\n", "        if True:\n", (SHAPES,)),
    Hurt("what a kind sheet sees otherwise by now is somebody's change", "core/plan/fates.py", "    if one.now and habits.is_seen_otherwise(one.now.kind):\n", "    if False:\n", (SMALL,)),
    Hurt("a link is lost once ids are counted by themselves", "engine/sides.py", "    return [called(link) for link in links]\n", "    return links\n", (SMALL,)),
    Hurt("a package of before brings what is volatile by now", "engine/intake.py", "    contents = as_read_today(contents, sheets)\n", "", (SHAPES,)),
    Hurt("what a run left is somebody's once a sheet has learned something", "engine/runs/stage.py", "    if other:\n", "    if False:\n", (SHAPES,)),
    Hurt("what a sheet calls secret by now is kept in clear by an undo", "engine/leaks.py", "        image = replace(image, live=live, draft=draft)\n", "", (SHAPES,)),
    Hurt("what became a connection is told as removed", "engine/verify.py", "for one in deliveries if one.key not in side.turned]", "for one in deliveries]", (NODERED,)),
    Hurt("an undo says that it is as before where a connection stays", "core/plan/fates.py", "    if one.is_turned:\n", "    if False:\n", (NODERED,)),
    Hurt("what somebody changed between two imports goes with the first one", "engine/runs/evidence.py", "            theirs.add(found)\n", "            pass\n", (TRUST,)),
    Hurt("what somebody changed in a pause goes with the whole run", "engine/runs/evidence.py", "            is_mixed = True\n", "            pass\n", (PLAN,)),
    Hurt("what a killed change left in an order of the platform's own is somebody's", "core/plan/states.py", "by_name(newest, sheet.places.walk(newest)) if sheet else None", "newest", ("tests/core/test_lost.py",)),
    Hurt("what was made again without its secret is as it was", "engine/runs/backwards.py", "        elif wanted and is_there and key in renamed and ", "        elif False and wanted and is_there and ", ("tests/contract/test_one_address.py",)),
    Hurt("what somebody changed of what a stopped run had made is written over when it goes on", "engine/present.py", "adopted.created & adopted.keys & items.keys()", "adopted.created & items.keys()", ("tests/faults/test_resume.py::test_what_somebody_did_meanwhile_is_kept",)),
    Hurt("half of a change is taken for somebody else's", "engine/runs/lost.py", "    return not is_same(habits.mark(image), before) and _holds(habits, habits.bare(meant), image)\n", "    return False\n", ("tests/core/test_lost.py",)),
    Hurt("half of a change is taken for somebody else's after a kill", "engine/runs/evidence.py", "            if now and is_half(now, half, stage.habits):\n", "            if False:\n", (HALF,)),
    Hurt("what was off for a change stays off when a run goes on", "engine/resume.py", "    was_on = {key: before.states.is_on for key in there if (before := mine[key].before)}\n", "    was_on = {}\n", (HALF,)),
    Hurt("what a killed run made is nobody's when it has gone on", "engine/resume.py", "    stage.ledger.journal.found(", "    (lambda *_: None)(", (HALF,)),
    Hurt("half of the rows are taken for all of them", "engine/resume.py", "    if loading:\n", "    if False:\n", (HALF,)),
    Hurt("what a platform ignored is taken for its habit", "engine/habits.py", "            some = [replace(one, has_stayed=one.at in ignored) for one in some]\n", "            pass\n", (HALF, HELD)),
    Hurt("an entry that a platform keeps is taken for its habit", "engine/habits.py", "            ignored |= {one.at for one in kept_entries(new, was_asked, places)}\n", "", (SMALL,)),
    Hurt("what a platform has not taken is somebody's edit ever after", "engine/present.py", "    if key not in side.untaken:\n        return base\n", "    return base\n", (SMALL,)),
    Hurt("a tag becomes a reference to what is called like it", "core/form/portable.py", " and self.names.style.tells(text):\n", ":\n", ("tests/core/test_needs.py",)),
    Hurt("a tag keeps what is called like it from being removed", "core/form/references.py", "        found -= words - said\n", "        pass\n", ("tests/core/test_needs.py",)),
    Hurt("what was only journalled as begun is never told from what was", "engine/runs/carrier.py", "                self._forgo(portion[0].number)\n", "                pass\n", ("tests/faults/test_resume.py",)),
    Hurt("a secret that nobody entered is ticked off as seen", "engine/aftercare.py", "read_items(replace(side, filled={}), ", "read_items(side, ", (SMALL,)),
    Hurt("somebody's edit in the middle of a change that broke off is taken for ours", "engine/runs/lost.py", "    if any(there.get(name, \"\") not in (values if is_written else values[:1]) for name, values in members.items()):\n        return False\n", "", (HALF,)),
    Hurt("half of our own work is a side of a merge", "engine/present.py", "            as_before[key] = replace(as_before[key], _form=form)\n", "            pass\n", (HALF,)),
    Hurt("an unset secret is sent as null", "environments/bridge/bodies.py", "        kept += [at for at in secret_places(shown, part.kind) if not holds(write.definition, at)]\n", "", (HALF,)),
    Hurt("numbers that were given to something else are written back", "core/form/native.py", "    ours, theirs = without_volatile(new, sheet), ", "    ours, theirs = new, ", (HALF,)),
    Hurt("a run ends where something was only saved again", "engine/runs/carrier.py", "            if may_be_saved and ", "            if False and ", (HALF,)),
    Hurt("an address inside of a flow goes along unsaid", "core/checks/portability.py", "        for at, text in addresses_in(item.form, sheet):\n", "        for at, text in ():\n", ("tests/core/test_checks.py",)),
    Hurt("an error becomes an attachment", "environments/bridge/client.py", "            if body is not None and self._is_refusal(answer, body):\n                self._refuse(call, answer, is_read=True)\n", "            pass\n", (HALF,)),
    Hurt("what was switched off to be changed stays off", "core/plan/rests.py", "            result.append(Switch((key,), True))\n", "            pass\n", ("tests/core/test_rests.py",)),
    Hurt("a list ends at a page that holds none of its kind", "environments/bridge/client.py", 'listed_count(answer.body, call.said("rows", "$[*]"))', "len(self._rows_in(call, answer))", ("tests/contract/test_one_path.py",)),
    Hurt("an item is taken for one of another kind", "environments/bridge/items.py", "        return listed or parts\n", "        return parts\n", ("tests/contract/test_one_path.py",)),
    Hurt("what somebody else made is taken away as ours", "engine/runs/lost.py", "    if len(ours) == 1:\n", "    if ours:\n", (FAULTS, "tests/core/test_lost.py")),
    Hurt("what was held is never let go of", "environments/bridge/hold.py", "    if then := call.said(\"then\", None):\n", "    if False:\n", ("tests/contract/test_paths_as_ids.py",)),
    Hurt("a layout names somebody else's widgets", "environments/bridge/bodies.py", "return bool(_without_new(part, write, there) != write.definition)", "return False", ("tests/contract/test_own_parts.py",)),
    Hurt("items are retired before what replaces them is written", "core/plan/order.py", "at_rest([*steps, *last], on, habits)", "at_rest([*last, *steps], on, habits)", ("tests/core/test_order.py",)),
    Hurt("rows are loaded into a table that holds some", "engine/plan.py", "if action.present is None or not action.present.rows:", "if True:", (TRUST, CROSSING, FAULTS)),
    Hurt("two items of a package are matched to one", "core/needs/matches.py", "if c in by_id and c not in given", "if c in by_id", (NAMING,)),
    Hurt("an equal id is taken for the same item", "core/needs/matches.py", "    if uid == source_uid:\n", "    if True:\n", (NAMING,)),
    Hurt("what the target has in custody is retired all the same", "core/plan/claims.py", 'contents.source_uid) if c.custody == "package"}', "contents.source_uid)}", (STORY.format("trusting"), STORY.format("deciding"), "tests/core/test_checks.py")),
    Hurt("a run that is not the latest is undone", "engine/undo.py", "if later := journal.later(run):", "if later := ():", (STORY.format("trusting"), FAULTS)),
    Hurt("somebody's change is overwritten by putting back", "core/plan/fates.py", "mine = one.ours if who in (None, one.account) else one.last", "mine = one.ours | {now}", (PLAN, FAULTS)),
    Hurt("what a changed item uses is taken from under it", "core/plan/restoration.py", "        if not keeping:\n", "        if True:\n", (FAULTS, PLAN)),
    Hurt("a clash is decided for the package without a word", "core/merge/merge.py", "NEEDS_CHOICE: Final = frozenset({By.CLASH, By.UNKNOWN})", "NEEDS_CHOICE: Final = frozenset({By.UNKNOWN})", (MERGE, DECIDING)),
    Hurt("a local edit is lost without a base", "core/merge/merge.py", "            by = By.UNKNOWN\n        elif equal(base, target)", "            by = By.PACKAGE\n        elif equal(base, target)", (MERGE,)),
    Hurt("lines of both sides are merged although they touch", "core/merge/lines.py", "if mine[0].end < other[0].start:", "if mine[0].end <= other[0].start:", (MERGE,)),
    Hurt("a secret of the target is cleared by an import", "core/form/native.py", "(kept == MASK or name not in new)", "False", (SECRETS,)),
    Hurt("a secret is fetched into a note", "core/form/native.py", 'if token.kind == "secret" and not spot.is_secret:', "if False:", (SECRETS,)),
    Hurt("a text beside a reference is not searched for secrets", "core/form/detector.py", 'plain = _TOKEN.sub(lambda found: " " * len(found[0]), text) if "amphora:" in text else text', 'plain = "" if "amphora:" in text else text', (SECRETS,)),
    Hurt("a silenced place hides the next secret", "core/form/secrets.py", "return (key, place, mark) in self.pardoned", "return any((key, place) == one[:2] for one in self.pardoned)", (SECRETS,)),
    Hurt("a clear secret of a package is taken in", "core/form/declared.py", 'if token is None or token.kind != "secret":', "if False:", (SECRETS,)),
    Hurt("the gate lets an open question pass", "core/plan/gate.py", "        *decisions,\n", "", (DECIDING, DOCKETS, TRUST)),
    Hurt("the gate lets a missing permission pass", "core/plan/gate.py", "    if not missing:\n        return []\n    details = tuple(\n", "    if True:\n        return []\n    details = tuple(\n", (TRUST, STORY.format("spoilt"))),
    Hurt("the gate lets an open need pass", "core/plan/gate.py", "    if open_:\n", "    if False:\n", (TRUST, DECIDING, STORY.format("tables"))),
    Hurt("an open run is passed over", "engine/gate.py", 'open_runs[0].name if open_runs else "",', '"",', (STORY.format("failing"), STORY.format("pausing"), STORY.format("waiting"), FAULTS)),
    Hurt("a docket for another state of the target is carried out", "engine/imports.py", "if stale := [reason for reason, is_so in reasons.items() if is_so]:", "if stale := []:", (DOCKETS, DECIDING)),
    Hurt("a token of another ledger is taken for ours", "engine/runs/carrier.py", 'f"{self.ledger_uid}/{self.run.name}/{number}"', 'f"{self.run.name}/{number}"', (STORY.format("outside"), FAULTS)),
    Hurt("an uncertain write counts as failed", "engine/runs/carrier.py", "            return self._asked(ready, error, waits if may_be_again else ())\n", "            raise\n", (FAULTS,)),
    Hurt("a whole import is put back for a database that was locked", "engine/runs/carrier.py", "(is_beside and isinstance(error, Failed))", "False", (SMALL,)),
    Hurt("what a gateway may still let through is made twice", "environments/calls.py", "Failed if is_over else Uncertain", "Failed", (SMALL,)),
    Hurt("whoever went on with another import is somebody", "engine/runs/outside.py", "        moved -= gone_on_since(stage, run)\n", "", (STORY.format("paused"),)),
    Hurt("a run is blamed for what another one did after it", "engine/elsewhere.py", "    known |= gone_on_since(stage, run)\n", "", (STORY.format("paused"),)),
    Hurt("a part's number is taken for that of another item", "environments/bridge/agreement.py", "            for part in self._counted(refer):\n", "            for part in ():\n", ("tests/contract/test_bridge.py",)),
    Hurt("an intent is written after its call", "engine/runs/carrier.py", "            self.stage.ledger.journal.begin_steps(self.run, intents, waiting, begun)\n", "            pass\n", (FAULTS,)),
    Hurt("a failed run is not put back", "engine/runs/outcome.py", "        back = put_back(stage, run, PUTTING_BACK, error.message, stage.ledger.journal.since_pause(run))\n", "        raise error\n", (FAULTS,)),
    Hurt("as it was before is said without a look", "engine/runs/backwards.py", "return not self.left and not self.differing", "return True", (FAULTS,)),
    Hurt("an older delivery counts as the base", "ledger/ledger.py", "void_by is null)", "void_by is null and 1 = 0)", (TRUST, DECIDING)),
    Hurt("something is lost in an older shape without a word", "core/form/conversions.py", "found = dict(_lost(form, again, ())) | found", "found = dict(found)", ("tests/core/test_conversions.py",)),
    Hurt("what can't be converted is written as it is", "core/plan/gate.py", "    if lost:\n", "    if False:\n", (SHAPES,)),
    Hurt("what stays at home under another kind's name is missing", "core/form/routes.py", "if sheets[kind].conversions}", "if False}", (STORY.format("corners"),)),
    Hurt("a row under items is not heeded for what stays at home", "core/needs/matches.py", "uid) if found else keys", "uid) if not found else keys", (STORY.format("corners"),)),
    Hurt("an undo that broke off says that nothing was touched", "engine/runs/backwards.py", "if kind == UNDO and mine and", "if False and mine and", (STORY.format("corners"),)),
    Hurt("a copy is taken for the original at home", "core/form/copies.py", 'native_id="", link=""', 'link=""', (STORY.format("copies"),)),
    Hurt("data that stays in a region leaves it", "core/plan/gate.py", "        *_regions(docket, standing),\n", "", (STORY.format("rounds"),)),
    Hurt("half of the targets are undone before one is missed", "engine/campaign.py", "        session.placed(run)\n", "        pass\n", (STORY.format("rounds"),)),
    Hurt("a ledger is taken over without a look", "ledger/transfer.py", "if _mark(source, table, names) != _mark(goal, table, names):", "if False:", ("tests/files/test_team.py",)),
    Hurt("what was edited again since is overwritten", "engine/gate.py", "if not seen or (key in now and now[key].fingerprint == seen)", "if True", (STORY.format("paused"),)),
    Hurt("what another ledger brought is overwritten", "core/merge/merge.py", "            by = By.UNKNOWN\n        elif equal(base, target)", "            by = By.PACKAGE\n        elif equal(base, target)", (STORY.format("taken"),)),
    Hurt("a version is overwritten with other contents", "files/store.py", "                if self._is_other(contents, path, digest):\n", "                if True:\n", (TRUST, "tests/files/test_package.py")),
    Hurt("references keep the source's ids", "core/form/portable.py", "if spot.refer and (token := self._reference(text, spot.refer)):", "if False:", ("tests/core/test_portable.py", CROSSING)),
    Hurt("rows that people entered go with an undo", "core/plan/fates.py", "if one.counts_rows and not _are_our_rows(one, habits):", "if False:", (PLAN,)),
    Hurt("half of a change is left there", "environments/bridge/adapter.py", "                if not self._is_back(write, single):\n", "                if True:\n", (HALF,)),
    Hurt("a list is read to its second page", "environments/bridge/client.py", 'replace(call, method="GET", path=place.near, body=None)', 'Call("GET", place.near, call.at, name=call.name)', ("tests/contract/test_bridge.py",)),
    Hurt("half of an app is packed", "engine/gathered.py", "            found = held.found(items.keys())\n", "            found = {}\n", (HELD,)),
    Hurt("what a title does to a terminal is let through", "core/values/visible.py", "return text if text.isprintable() else _HIDDEN.sub(_mark, text)", "return text", ("tests/program/test_attack.py",)),
    Hurt("--yes takes a column from a report that the package has nothing to do with", "core/plan/consents.py", "    cut = [one for", "    cut = [] and [one for", (STORY.format("parts"),)),
    Hurt("verify is content although a used column is gone", "engine/proof.py", "        _lost(look),\n", "        {},\n", (STORY.format("parts"),)),
    Hurt("an undo takes the column that an edited report uses", "core/plan/restoration.py", "in sorted((parted or {}).items())", "in sorted({}.items())", (PLAN,)),
    Hurt("an undo takes away what somebody links to by now", "engine/runs/evidence.py", "if row.native_id in keys}\n    environment", "if False}\n    environment", ("tests/contract/test_nodered.py",)),
    Hurt("an undo takes away the columns of a table that somebody works on", "core/plan/restoration.py", "        verdicts |= {key: Verdict(Fate.LEFT, why) for key in inside if", "        {key: Verdict(Fate.LEFT, why) for key in inside if", ("tests/contract/test_brought.py",)),
    Hurt("half of what was made under our own id is somebody's", "engine/runs/lost.py", "return Search(image, is_as_meant=image is not None and is_as_meant(image))", "return Search(image)", (HALF,)),
    Hurt("a copy of an environment is imported into beside it", "engine/rounds.py", "        if other != docket.target:\n", "        if False:\n", (STORY.format("outside"),)),
    Hurt("a record is silent on what was mapped at a pause", "core/plan/kept.py", "return {**kept, **newer, ", "return {**kept, ", (STORY.format("paused"),)),
    Hurt("what is kept there is checked as if the package's went in", "engine/check.py", "for action in docket.actions if action.is_mixed}", "for action in () if action.is_mixed}", (STORY.format("parts"),)),
    Hurt("a choice for one place is passed over", "engine/action.py", "change.place in ABOUT_ALL and change.choice", "change.choice", (STORY.format("honoured"), STORY.format("deciding"))),
    Hurt("carry takes over another package's items at a --yes", "cli/guide.py", "        if agreeing:\n", "        if False:\n", (STORY.format("agreeing"),)),
    Hurt("rows leave their region once their source is called otherwise", "cli/packages.py", "    contents = work.session.as_known(contents) if work.has_workspace else contents\n", "", (STORY.format("places"),)),
    Hurt("a list in an order of its own is told as lost", "core/form/named.py", "return parts if index is None else ByName", "return parts if True else ByName", ("tests/core/test_filled.py", "tests/contract/test_small_platforms.py")),
    Hurt("widgets change their places on a canvas", "core/form/portable.py", "{str(n): tree[stood[was]] for", "{str(was): tree[stood[was]] for", ("tests/core/test_portable.py",)),
    Hurt("resume asks about half of its own work", "engine/resume.py", "    take_up(stage, run, since)\n", "", ("tests/contract/test_own_parts.py",)),
    Hurt("a refused change has let go of what it led to", "environments/bridge/adapter.py", "                self._taken_up(was, write, call, more)\n", "", ("tests/contract/test_own_parts.py",)),
    Hurt("a part that names a new one is made anew", "core/form/hollow.py", "return names_new and all(value is not one for one in bodies)", "return names_new", ("tests/contract/test_own_parts.py",)),
    Hurt("a package passes the test environment by", "engine/upstream.py", "if contents.version not in versions:", "if False:", (STORY.format("upstream"),)),
    Hurt("what was found edited before goes on", "engine/upstream.py", " or proved.wrong:", ":", (STORY.format("upstream"),)),
    Hurt("another source's package is taken for the same", "engine/versions.py", " and export.uid == contents.source_uid", "", (STORY.format("places"),)),
)  # fmt: skip


def passed(hurts: list[Hurt], folder: Path) -> list[str]:
    """What of some changes nobody notices; a change that can't be made is told too."""
    left = []
    for hurt in hurts:
        target = folder / "src" / "amphora" / hurt.path
        kept = target.read_text(encoding="utf-8")
        if kept.count(hurt.old) != 1:
            left.append(f"{hurt.what}: stands {kept.count(hurt.old)} times in {hurt.path}")
            continue
        target.write_text(kept.replace(hurt.old, hurt.new), encoding="utf-8")
        try:
            if not is_red(folder, list(hurt.tests), 900):
                left.append(hurt.what)
        finally:
            target.write_text(kept, encoding="utf-8")
    return left


def main() -> int:
    """Tries all of them in two copies; 1 if any was let pass."""
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(2) as pool:
        folders = [Path(name) / str(number) for number in range(2)]
        for folder in folders:
            copy_to(folder)
        # A test that is red anyway would notice whatever it is given.
        if is_red(folders[0], sorted({test for hurt in HURTS for test in hurt.tests}), 1800):
            sys.exit("The tests are red without any change: run `make test` first.")
        jobs = [pool.submit(passed, list(HURTS[n::2]), folder) for n, folder in enumerate(folders)]
        left = [line for job in jobs for line in job.result()]
    print(
        "\n".join(
            [*(f"nobody noticed: {line}" for line in left), f"{len(HURTS) - len(left)} of {len(HURTS)} noticed."]
        )
    )
    return int(bool(left))


if __name__ == "__main__":
    sys.exit(main())
