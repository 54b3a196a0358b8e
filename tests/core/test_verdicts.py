"""What commands say first, and their exit codes: one row a case."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from amphora.core.form.kinds import parse_sheet
from amphora.core.form.routes import Converted
from amphora.core.merge.merge import By, FieldChange
from amphora.core.needs.crosswalk import Mapped, MapState
from amphora.core.plan.actions import Do
from amphora.core.plan.aftercare import words_tasks
from amphora.core.plan.docket import Custody, Parting
from amphora.core.plan.gate import _open, _permissions, _taken
from amphora.core.plan.reasons import Reason, Why
from amphora.core.plan.states import Image
from amphora.core.plan.steps import Create
from amphora.core.values.model import Contents, Finding, Level, Need, States
from amphora.core.values.next_step import advice, to_type
from amphora.core.values.strict_toml import line_of
from amphora.engine import run_verdicts, target_verdicts, verdicts
from amphora.engine.elsewhere import Elsewhere, Others
from amphora.engine.overview import Standing
from amphora.engine.proof import Cause, Connection, Off, Proof
from amphora.engine.record import Told
from amphora.engine.runs.backwards import Back, _unlike
from amphora.engine.verdicts import Verdict
from amphora.ledger.records import Run
from amphora.render.check import check_markdown
from amphora.render.survey import survey_result


@dataclass
class Docket:
    """As much of a docket as verdicts look at."""

    new: int = 0
    changed: int = 0
    edited: list[str] = field(default_factory=list)
    undecided: list[str] = field(default_factory=list)
    gone: int = 0
    rows: int = 0
    let_go: int = 0
    file: str = ""
    has_records: bool = False
    converted: tuple[Converted, ...] = ()
    package: str = "olive"
    name: str = "olive-1.0.0"
    source_file: str = ""
    run: str = ""
    since: str = ""
    taken: tuple[tuple[str, str], ...] = ()
    target: str = "live"
    title: str = "olive 1.0.0"
    edited_there: tuple[str, ...] = ()
    unclaimed: tuple[str, ...] = ()
    pauses: tuple[Any, ...] = ()
    makers: dict[str, str] = field(default_factory=dict)
    pause_after: dict[str, str] = field(default_factory=dict)
    actions: tuple[Any, ...] = ()
    left_out: tuple[str, ...] = ()
    kept: tuple[int, ...] = ()
    given_up: tuple[int, ...] = ()
    loading: dict[str, int] = field(default_factory=dict)
    hands_over: bool = False
    custody: Custody = Custody.TARGET

    @property
    def is_idle(self) -> bool:
        return not (self.new or self.changed or self.gone or self.let_go or self.loading)

    @property
    def is_settled(self) -> bool:
        return self.is_idle and not self.undecided

    @property
    def words(self) -> list[tuple[str, str]]:
        return [("--with", "records")] if self.has_records else []

    def by(self, do: Do) -> list[int]:
        return [0] * {Do.CREATE: self.new, Do.UPDATE: self.changed}.get(do, 0)

    def fated(self, fate: Parting) -> list[Any]:
        count = {Parting.RETIRE: self.gone, Parting.LET_GO: self.let_go}.get(fate, 0)
        return [SimpleNamespace(present=SimpleNamespace(rows=self.rows if n == 0 else None)) for n in range(count)]


REASON = Reason(Why.NEED, "A need", (), to_type("map", "olive", "live"))
NO_STEP = Reason(Why.POLICY, "A policy")
SHAPED = Converted("skin:a", ("theme", 1), ("skin", 0), moved=1)
STAKES = [
    (Docket(), "Nothing to do: live already has olive 1.0.0."),
    (Docket(hands_over=True), "Only the custody changes: live already has olive 1.0.0. From now on it is in the target's custody."),
    (Docket(loading={"a": 1_412}), "olive 1.0.0 into live: 0 new, 0 changed, 1,412 rows to load, nothing removed."),
    (Docket(edited=["a"]), "Nothing to do: live has olive 1.0.0; 1 local edit stays."),
    (
        Docket(actions=(SimpleNamespace(is_decided=True), SimpleNamespace(is_decided=False))),
        "Nothing to do: live has olive 1.0.0; 1 item stays as decided.",
    ),
    (Docket(edited=["a", "b"], left_out=("c",)), "Nothing to do: live has olive 1.0.0, but for 1 item left out; 2 local edits stay."),
    (Docket(undecided=["a"]), "olive 1.0.0 into live: 0 new, 0 changed, 1 to decide, nothing removed."),
    (Docket(2, 1), "olive 1.0.0 into live: 2 new, 1 changed, nothing removed."),
    (
        Docket(
            1,
            converted=(SHAPED, replace(SHAPED, dropped=(("/a", 1), ("/b", 2))), replace(SHAPED, unfit=(("/c", ""),))),
        ),
        "olive 1.0.0 into live: 1 new, 0 changed, nothing removed. 2 items converted to the shape there,"
        " 2 fields left behind.",
    ),
    (Docket(0, 1, ["a"], kept=(1,)), "olive 1.0.0 into live: 0 new, 1 changed, 1 local edit kept, nothing removed."),
    (
        Docket(0, 1, ["a", "b"], kept=(1,), given_up=(1, 2)),
        "olive 1.0.0 into live: 0 new, 1 changed, 1 local edit kept, 2 local edits given up, nothing removed.",
    ),
    (Docket(0, 2, ["a", "b"], ["b"]), "olive 1.0.0 into live: 0 new, 2 changed, 2 local edits at stake, 1 to decide, nothing removed."),
    (Docket(0, 2, ["a"], ["b"], kept=(1,)), "olive 1.0.0 into live: 0 new, 2 changed, 1 local edit kept, 1 to decide, nothing removed."),
    (Docket(gone=1), "olive 1.0.0 into live: 0 new, 0 changed, 1 item removed."),
    (Docket(gone=2, rows=1412), "olive 1.0.0 into live: 0 new, 0 changed, 2 items removed with 1,412 rows."),
    (Docket(let_go=3), "olive 1.0.0 into live: 0 new, 0 changed, nothing removed, 3 let go."),
]  # fmt: skip


@pytest.mark.parametrize(("docket", "words"), STAKES)
def test_what_is_at_stake(docket: Docket, words: str) -> None:
    assert verdicts.at_stake(cast(Any, docket)) == words
    after = to_type("edits", "live") if docket.edited else to_type("verify", "olive", "live")
    assert verdicts.of_nothing_to_do(cast(Any, docket)) == Verdict(words, "good", after)


IMPORTS = [
    (verdicts.of_comparison, Docket(1), [], "plain", 1, "amphora import olive-1.0.0 live", ""),
    (verdicts.of_comparison, Docket(), [], "plain", 0, "amphora verify olive live", ""),
    (verdicts.of_comparison, Docket(undecided=["a"]), [], "plain", 1, "amphora verify olive live", ""),
    (verdicts.of_comparison, Docket(1), [REASON], "warn", 3, "amphora map olive live", " Not as it stands: not mapped."),
    (verdicts.of_comparison, Docket(1), [NO_STEP, REASON], "warn", 3, "amphora map olive live", "policy"),
    (verdicts.of_comparison, Docket(1, file="d.yaml"), [], "plain", 1, "amphora import d.yaml", " The docket is in d.yaml."),
    (verdicts.of_preview, Docket(1), [], "plain", 0, "amphora import olive-1.0.0 live", "Preview, nothing was touched. "),
    (verdicts.of_preview, Docket(1, has_records=True), [], "plain", 0, "amphora import olive-1.0.0 live --with records", ""),
    (verdicts.of_preview, Docket(1, has_records=True, file="d.yaml"), [], "plain", 0, "amphora import d.yaml", ""),
    (verdicts.of_preview, Docket(1), [NO_STEP], "warn", 3, "", "Not as it stands"),
]  # fmt: skip


@pytest.mark.parametrize(("of", "docket", "reasons", "standing", "code", "after", "words"), IMPORTS)
def test_an_import_to_be(
    of: Any, docket: Docket, reasons: list[Reason], standing: str, code: int, after: str, words: str
) -> None:
    found = of(docket, reasons)
    assert (found.standing, found.code, str(found.next_step)) == (standing, code, after)
    known = words.replace("not mapped", REASON.why.value).replace(
        "policy", f"{NO_STEP.why.value}, {REASON.why.value}"
    )
    assert known in found.words
    assert verdicts.at_stake(cast(Any, docket)) in found.words


RUN = Run(1, "live-1", "live", "u", "olive", "1.0.0", "keeper", "done", "t", "t", "")
GOOD, BAD = SimpleNamespace(is_as_promised=True), SimpleNamespace(is_as_promised=False)
DONE = [
    ([], "", "Done: olive 1.0.0 is in live, 2 created, 1 updated; 0 items verified. Run live-1.", "good", 0, "history"),
    ([GOOD], "", "; 1 item verified.", "good", 0, "history"),
    ([GOOD, GOOD], "", "; both items verified.", "good", 0, "history"),
    ([GOOD, BAD], "", "; 1 item is not as promised.", "bad", 1, "history"),
    ([], "no answer", "; not verified (no answer).", "good", 1, "verify"),
]  # fmt: skip


@pytest.mark.parametrize(("verified", "unverified", "words", "standing", "code", "after"), DONE)
def test_an_import_that_is_done(
    verified: list[Any], unverified: str, words: str, standing: str, code: int, after: str
) -> None:
    found = verdicts.of_import(
        cast(Any, Docket(2, 1)),
        cast(Any, SimpleNamespace(run=RUN, unverified=unverified, care=(), loaded={})),
        verified,
    )
    assert words in found.words
    assert (found.standing, found.code, str(found.next_step)) == (standing, code, f"amphora {after} live-1")
    retired = verdicts.of_import(
        cast(Any, Docket(2, 1, gone=2, kept=(1, 2))),
        cast(Any, SimpleNamespace(run=RUN, unverified="", care=(), loaded={"a": 7})),
        [],
    )
    assert "1 updated, 7 rows loaded, 2 retired, 2 local edits kept;" in retired.words


def finding(rule: str, level: Level, after: str = "") -> Finding:
    return Finding(rule, level, "words", "flow:a", "", advice(after))


E, W, N = Level.ERROR, Level.WARNING, Level.NOTE
CONTENTS = Contents("olive", "1.0.0", "dev", "u", {}, ())
CHECKS: list[tuple[list[Finding], list[Reason], str, str, int, str]] = [
    ([], [], "olive 1.0.0 can go to live.", "good", 0, "amphora compare olive live"),
    ([finding("x", N)], [], "olive 1.0.0 can go to live.", "good", 0, "amphora compare olive live"),
    ([finding("x", W)], [], "olive 1.0.0 can go to live: 1 warning.", "warn", 0, "amphora compare olive live"),
    ([finding("need-later", N)], [], "can go to live: a pause for set-up.", "good", 0, "amphora compare olive live"),
    ([finding("need-open", W)], [], "Not yet for live: 1 to map.", "warn", 0, "amphora map olive live"),
    ([finding("x", E)], [], "Not yet for live: 1 error.", "bad", 3, "amphora check olive live"),
    ([finding("x", E, "Mend it.")], [], "Not yet for live: 1 error.", "bad", 3, "Mend it."),
    ([finding("item-missing", E, "Pack."), finding("x", E)], [], "1 item missing, 1 other error.", "bad", 3, "amphora fix"),
    ([finding("item-missing", W)], [], "1 warning.", "warn", 0, "amphora compare olive live"),
    ([], [REASON], f"Not yet for live: {REASON.why.value}.", "bad", 3, "amphora map olive live"),
    ([], [NO_STEP], f"Not yet for live: {NO_STEP.why.value}.", "bad", 3, "amphora compare olive live"),
    ([finding("need-open", N)], [REASON], "Not yet for live: 1 to map.", "bad", 3, "amphora map olive live"),
]  # fmt: skip


@pytest.mark.parametrize(("findings", "reasons", "words", "standing", "code", "after"), CHECKS)
def test_a_check(
    findings: list[Finding], reasons: list[Reason], words: str, standing: str, code: int, after: str
) -> None:
    found = verdicts.of_check(CONTENTS, {"live": findings}, {"live": reasons}, to_type("fix"))
    assert words in found.words
    assert (found.standing, found.code, str(found.next_step)) == (standing, code, after)
    strict = verdicts.of_check(CONTENTS, {"live": findings}, {"live": reasons}, is_strict=True)
    assert strict.code == (1 if (standing, code) == ("warn", 0) else code)


def test_a_package_by_itself_and_several_targets() -> None:
    alone = verdicts.of_check(CONTENTS, {"": []}, {})
    assert (alone.words, str(alone.next_step)) == (
        "olive 1.0.0 by itself: nothing amiss.",
        "amphora compare olive ENVIRONMENT",
    )
    assert not alone.next_step.is_ready
    both = verdicts.of_check(CONTENTS, {"a": [finding("need-open", W)], "b": [finding("need-open", W)]}, {})
    assert (both.words, str(both.next_step)) == (
        "Not yet for a: 1 to map. Not yet for b: 1 to map.",
        "amphora map olive a b",
    )


def test_where_nothing_is_the_next_step_leads_on_all_the_same() -> None:
    whole, part = (survey_result("live", [], cast(Any, {}), is_part, is_tree=False) for is_part in (False, True))
    assert (whole.verdict, str(whole.next_step)) == ("live is empty.", "amphora import PACKAGE live")
    assert (part.verdict, str(part.next_step)) == ("Nothing in live is like that.", "amphora survey live")


def test_what_findings_tell_is_not_told_twice_unless_they_were_silenced() -> None:
    told = verdicts.untold({"a": [finding("need-open", W)], "b": []}, {"a": [REASON, NO_STEP], "b": [REASON]})
    assert told == {"a": [NO_STEP], "b": [REASON]}


def mapped(state: MapState, name: str = "db", kind: str = "connection", environment: str = "live") -> Mapped:
    return Mapped(Need(f"{kind}:{name}", ("flow:a",)), environment, state, "x")


MAPPINGS = [
    ({"live": [mapped(MapState.MAPPED)]}, "The one need of olive 1.0.0 is mapped for live.", 0, "amphora compare olive live"),
    ({"live": [mapped(MapState.LATER)]}, "is mapped for live, 1 in a pause of the import.", 0, "amphora compare olive live"),
    ({"live": [mapped(MapState.OPEN, "a%20b")]}, "1 of 1 need of olive 1.0.0 to be mapped for live.", 1, 'amphora map olive live --set "a b"=…'),
    ({"live": [mapped(MapState.GUESSED)]}, "to be mapped for live, 1 of them guessed.", 1, "amphora map olive live --accept"),
    ({"live": [mapped(MapState.OPEN, kind="secret")]}, "olive 1.0.0 needs nothing", 0, "amphora compare olive live"),
    (
        {"a": [mapped(MapState.MAPPED)], "b": [mapped(MapState.OPEN, environment="b")]},
        "1 of 2 needs of olive 1.0.0 to be mapped for a and b.",
        1,
        "amphora map olive b --set db=…",
    ),
]  # fmt: skip


@pytest.mark.parametrize(("rows", "words", "code", "after"), MAPPINGS)
def test_a_mapping(rows: dict[str, list[Mapped]], words: str, code: int, after: str) -> None:
    found = verdicts.of_mapping(CONTENTS, rows)
    assert words in found.words
    assert (found.code, found.standing, str(found.next_step)) == (code, "warn" if code else "good", after)


MINE, THEIRS = (cast(Any, SimpleNamespace(is_handed_over=one)) for one in (False, True))


def test_edits_verification_difference_and_withdrawal() -> None:
    for some, words in (([THEIRS], "it; it was handed"), ([THEIRS, THEIRS], "them; all were handed")):
        free = target_verdicts.of_edits("live", some, "", [])
        said = (free.words.endswith(f"delivered {words} over before."), free.code, free.standing)
        assert said == (True, 0, "plain")
    assert target_verdicts.of_edits("live", [], "", []).words.startswith("Nothing in live was edited")
    none = target_verdicts.of_edits("live", [], "", [], has_packages=False)
    assert none.words == "No package is in force in live: nothing there counts as edited."
    one = target_verdicts.of_edits("live", [MINE], "", [])
    assert (one.words, one.code, one.standing, str(one.next_step)) == (
        "1 item in live edited since the packages in force delivered it.",
        1,
        "warn",
        "amphora edits live --carry-back",
    )
    made = target_verdicts.of_edits("live", [MINE, THEIRS], "packages/live-edits-1.0.0.amphora", [])
    assert made.words.endswith(
        "delivered them; 1 of them handed over before. They are in packages/live-edits-1.0.0.amphora, to be carried back."
    )
    assert (made.code, str(made.next_step)) == (0, "amphora compare live-edits-1.0.0 ENVIRONMENT")
    back = target_verdicts.of_edits("live", [MINE], "", ["a.yaml", "b.yaml"])
    assert (back.words.endswith("What puts them back is in a.yaml, b.yaml."), back.code, str(back.next_step)) == (
        True,
        0,
        "amphora import a.yaml",
    )
    good = target_verdicts.of_proof(Proof("live", "olive", "1.0.0", None, cast(Any, (GOOD, GOOD))))
    assert (good.words, good.code, str(good.next_step)) == (
        "live is as promised: both items of olive 1.0.0.",
        0,
        "amphora history",
    )
    for cause, step in (
        (Cause.GONE, "amphora compare olive live"),
        (Cause.EDITED, "amphora edits live"),
        (Cause.REFUSED, "Look at flow:a there; what live never keeps is volatile in its sheet."),
    ):
        off = {"flow:a": Off(cause)}
        bad = target_verdicts.of_proof(Proof("live", "olive", "1.0.0", None, cast(Any, (GOOD, BAD)), off))
        assert (bad.words, bad.code, bad.standing, str(bad.next_step)) == (
            "live is not as promised: 1 of 2 items differs, of olive 1.0.0.",
            1,
            "bad",
            step,
        )
    moved = target_verdicts.of_proof(
        Proof("live", "olive", "1.0.0", None, cast(Any, (GOOD,)), moved=("flow:a", "flow:b"))
    )
    assert moved.words.endswith("of olive 1.0.0. 2 items at another address than people were told."), moved.words
    dead = (Connection("mill-db", "mill", False, "no route"), Connection("lab", "l", None))
    ours = (Elsewhere("Press log", "changed", is_ours=True), Elsewhere("Other", "new"))
    bad = target_verdicts.of_proof(
        Proof("live", "olive", "1.0.0", None, cast(Any, (GOOD,)), connections=dead, others=Others("live-3", 9, ours))
    )
    assert bad.words == (
        "live is not as promised: 1 connection not answering, 1 item changed that was not to be touched, of olive"
        " 1.0.0. Beside it 1 item changed there since live-3, not by it."
    )
    assert str(bad.next_step) == "amphora env test live"
    for counts, words, code in (
        ((0, 0, 0, 0), "a and b are the same.", 0),
        ((0, 0, 0, 1), "flow:x is the same in a and b.", 0),
        ((0, 0, 0, 2), "These 2 items are the same in a and b.", 0),
        ((1, 2, 3, 1), "1 differs, 2 only in a, 3 only in b.", 1),
    ):
        changed, left, right, named = ([f"flow:{'xyz'[n]}" for n in range(count)] for count in counts)
        sides = SimpleNamespace(changed=changed, only_left=left, only_right=right, named=named)
        told = verdicts.of_difference("a", "b", cast(Any, sides))
        assert (told.words, told.code) == (words, code)
    docket = Docket(gone=2, rows=9, let_go=1, edited_there=("flow:a",))
    before = verdicts.of_withdrawal(cast(Any, docket), None)
    assert (
        before.words
        == "Withdrawing olive from live: 2 items to retire, 1 to let go, 9 rows at stake, 1 edited there since. Nothing was touched."
    )
    assert (before.code, str(before.next_step)) == (1, "amphora withdraw olive live --retire-all")
    after = verdicts.of_withdrawal(cast(Any, docket), RUN)
    assert (
        after.words
        == "Done: olive is withdrawn from live, 2 retired, 1 let go; definitions and rows are kept in runs/live-1."
    )
    assert (after.code, verdicts.of_withdrawal(cast(Any, Docket()), RUN).words) == (
        0,
        "Done: olive is withdrawn from live, 0 retired, 0 let go.",
    )


def test_an_import_that_pauses() -> None:
    def leg(who: tuple[str, ...], *needs: str) -> Any:
        return SimpleNamespace(waits=needs, who=who)

    actions = tuple(SimpleNamespace(key=key, states=SimpleNamespace(title=key.upper())) for key in "ab")
    makers = {"connection:x": "a", "connection:y": "b", "connection:z": "a"}
    one = replace(Docket(1), pauses=(leg(("Ines",), "connection:x", "connection:z"),), makers=makers, actions=actions)
    start = "olive 1.0.0 into live: 1 new, 0 changed, nothing removed."
    assert verdicts.at_stake(cast(Any, one)) == f"{start} Pauses once, after A: you need Ines."
    two = replace(one, pauses=(leg((), "connection:x"), leg((), "connection:y")))
    assert verdicts.at_stake(cast(Any, two)) == f"{start} Pauses twice, after A, B."
    # Where somebody wanted to be waited for, and nothing is done that one could wait for.
    assert verdicts.at_stake(
        cast(Any, replace(one, makers={"connection:x": "a", "connection:z": "a"}, pause_after={"a": "", "b": ""}))
    ).endswith("you need Ines. No pause after B: it stays as it is there.")
    both = replace(Docket(1), pause_after={"a": "", "b": ""}, actions=actions)
    assert verdicts.at_stake(cast(Any, both)) == f"{start} No pause after A, B: they stay as they are there."

    def need(key: str, state: MapState, value: Any = None) -> Mapped:
        return Mapped(Need(key, ()), "live", state, value)

    waiting = (need("connection:x", MapState.OPEN), need("connection:y", MapState.GUESSED, "y-live"))
    found = SimpleNamespace(
        run=RUN,
        done=("a",),
        still=("b", "c"),
        waiting=waiting,
        words=(("flow:a", "the office"), ("flow:b", "")),
        gone=(),
    )
    told = run_verdicts.of_standstill(cast(Any, found))
    assert told.words == (
        "Paused: 1 item of olive 1.0.0 in live, 2 still to come. To be made there by hand: x, y."
        " Waits for a word: the office, flow:b. Run live-1."
    )
    assert (told.code, told.standing) == (5, "warn")
    assert str(told.next_step) == "amphora resume live-1 --set x=… --set y=y-live"
    found = SimpleNamespace(run=RUN, done=("a",), still=(), waiting=(), words=(), gone=("b",))
    assert run_verdicts.of_standstill(cast(Any, found)).words.endswith(
        "in live, 1 no longer there, not yet complete. Run live-1."
    )


def test_undo_runs_and_the_workspace() -> None:
    to_be = [run_verdicts.of_undo_to_be(RUN, back, left) for back, left in ((2, 0), (1, 3), (0, 0))]
    assert to_be[0] == Verdict(
        "Preview, nothing was touched. Undoing live-1 would put back 2 items in live.",
        "plain",
        to_type("undo", "live-1"),
    )
    assert (to_be[1].words.endswith("put back 1 item in live and leave 3, named below."), to_be[1].standing) == (
        True,
        "warn",
    )
    assert "Nothing in live would have to be changed" in to_be[2].words
    for is_before, is_open, words, standing, code, after in (
        (True, False, "live-1 is undone: S", "good", 0, "amphora history"),
        (False, False, "live-1 is undone: S", "warn", 1, "amphora history"),
        (False, True, "live-1 is not undone as a whole: S", "bad", 6, "amphora undo live-1"),
        (True, True, "live-1 is not undone as a whole: S", "bad", 6, "amphora undo live-1"),
    ):
        said = {"is_as_before": is_before, "is_open": is_open, "is_idle": False, "care": ()}
        back = SimpleNamespace(of=RUN, sentence=lambda _: "S", **said)
        found = run_verdicts.of_undo(cast(Any, back))
        assert (found.words, found.standing, found.code, str(found.next_step)) == (words, standing, code, after)
    idle = run_verdicts.of_undo(Back(None, RUN, left=("a stays", "b stays")))
    assert (idle.words, idle.code) == ("Nothing of live-1 was put back: 2 items stay as they are now.", 1)
    assert not Back(None, RUN, ("a",), ("b stays",)).is_idle
    states = {
        "done": "verify live-1",
        "running": "undo live-1",
        "paused": "resume live-1",
        "broken off": "undo live-1",
        "put back": "compare olive-1.0.0 live",
        "undone": "compare olive-1.0.0 live",
    }
    assert {state: str(run_verdicts.of_run(replace(RUN, state=state))) for state in states} == {
        s: f"amphora {w}" for s, w in states.items()
    }
    done, paused = Told(RUN, "complete"), Told(replace(RUN, name="live-2", state="paused"), "paused", 2)
    assert str(run_verdicts.of_tolds([done, paused])) == "amphora resume live-2"
    assert str(run_verdicts.of_tolds([done])) == "amphora history live-1"
    assert str(run_verdicts.of_tolds([done, Told(RUN, "done", 1)])) == "amphora aftercare live-1"
    open_ = [replace(RUN, state="running"), replace(RUN, name="live-2", state="broken off")]
    assert run_verdicts.of_workspace([], [], open_) == Verdict(
        "2 runs are not finished.", "warn", to_type("undo", "live-1")
    )
    assert run_verdicts.of_workspace([], [], open_[:1]).words == "1 run is not finished."
    tasks = words_tasks(["Tell the crew"])
    found = run_verdicts.of_workspace([], [], open_[:1], still=tasks)
    assert found.words.endswith("Still to do: 1 request of its maker.")
    assert run_verdicts.of_workspace(["dev"], ["a"], [RUN], still=tasks) == Verdict(
        "Still to do: 1 request of its maker.", "warn", to_type("aftercare")
    )
    assert str(run_verdicts.of_workspace([], [], [RUN]).next_step) == "amphora env add NAME LOCATION"
    assert str(run_verdicts.of_workspace(["dev"], [], []).next_step) == "amphora survey dev"
    assert str(run_verdicts.of_workspace(["dev"], ["a", "b"], []).next_step) == "amphora peek b"


def test_few_words_for_what_is_off() -> None:
    told = [Standing("1.0.0", edits=n, still=cast(Any, ("a task",) * n)).troubles for n in range(3)]
    one = ["1 item edited there", "1 thing still to do"]
    assert told == [[], one, ["2 edited there", "2 still to do"]]
    image = Image("1", "flow", ("A",), States("A", "", True, True), {"a": 1}, None, 2)
    cases = [
        (replace(image, live={"a": 2}), "its live version"),
        (replace(image, draft={}), "its draft"),
        (replace(image, states=States("B", "", True, True)), "its title or folder"),
        (replace(image, states=States("A", "", False, False)), "on or off, published or not"),
        (replace(image, rows=3), "its rows"),
        (replace(image, revision="9"), "something in it"),
        (None, "it is gone"),
    ]
    assert [_unlike(image, found) for found, _ in cases] == [words for _, words in cases]
    assert _unlike(None, image) == "it is still there"
    sheet = parse_sheet('kind = "flow"\n[fields]\nvolatile = ["$.runs"]\nnamed = { "$.steps" = "id" }\n')
    wanted, found = ({"runs": n, "to": "x", "steps": [{"id": "tell", "of": n}]} for n in (1, 2))
    before, after = replace(image, live=wanted, draft=wanted), replace(image, live=found, draft={**wanted, "runs": 3})
    assert _unlike(before, after, sheet) == "its live version at steps > tell > of, its draft"
    source = "a = 1\n[item.flow]\na = 2\n"
    assert [line_of(source, "a", within) for within in ("", "item.flow.", "item.tab.")] == [
        "line 1: ",
        "line 3: ",
        "line 1: ",
    ]
    assert line_of(source, "b") == ""


@pytest.mark.parametrize(
    ("places", "lines"),
    [
        ("abc", ["flow:a at a: unknown origin", "flow:a at b: unknown origin", "flow:a at c: unknown origin"]),
        ("abcde", ["flow:a at a, b, c and 2 more places: unknown origin"]),
    ],
)
def test_many_open_places_of_an_item_stand_in_one_line(places: str, lines: list[str]) -> None:
    changes = [FieldChange(f"/{place}", By.UNKNOWN, 1, 2, 3) for place in places]
    action = SimpleNamespace(key="flow:a", comparison=SimpleNamespace(open=changes))
    assert _open(cast(Any, action)) == lines


def test_what_many_items_lack_stands_once() -> None:
    lacks = [Finding("feature-missing", Level.ERROR, "'fax' is missing.", f"flow:{name}") for name in "abc"]
    told = check_markdown(
        CONTENTS, {"live": [*lacks, Finding("limit-exceeded", Level.ERROR, "'fax' is missing.", "flow:d")]}
    )
    assert [line.split(" | ")[2] for line in told.splitlines() if "'fax'" in line] == ["flow:a and 2 more", "flow:d"]


@pytest.mark.parametrize(("count", "told"), [(3, "flow:0, flow:1, flow:2"), (4, "flow:0, flow:1, flow:2 and 1 more")])
def test_what_a_permission_is_missing_for_is_named(count: int, told: str) -> None:
    steps = [Create((f"flow:{number}",)) for number in range(count)]
    docket = SimpleNamespace(steps=steps, actions=[1], target="live")
    standing = SimpleNamespace(permissions={"read"}, lacks=frozenset(), sheets={}, account="ada", roles={})
    [reason] = _permissions(cast(Any, docket), cast(Any, standing))
    assert (reason.message, reason.details) == ("ada may not write in live.", (f"write: {told}",))


@pytest.mark.parametrize(("count", "where"), [(1, "an item"), (2, "2 items")])
def test_places_that_are_taken_are_counted(count: int, where: str) -> None:
    taken = [(f"flow:{number}", "flow:other") for number in range(count)]
    [reason] = _taken(cast(Any, replace(Docket(), taken=tuple(taken))))
    assert reason.message == f"live has another item where {where} would go."
    assert reason.details[0] == "flow:0 would get the place of flow:other"
    assert str(reason.next_step).endswith("amphora import olive-1.0.0 live --same flow:0")


def test_many_targets_are_told_by_what_became_of_them() -> None:
    def came(target: str, state: str, is_bad: bool = False) -> Any:
        return SimpleNamespace(
            docket=SimpleNamespace(target=target), state=state, is_bad=is_bad, trouble=None, outcome=None
        )

    bad = run_verdicts.of_rounds(
        "olive 1.0.0", [came("live", "put back", True), came("south", "not begun")], "c-1", done=["test", "trial"]
    )
    told = "Stopped: olive 1.0.0 is done in test, trial; put back in live; not begun in south (c-1)."
    assert (bad.words, bad.code, str(bad.next_step)) == (told, 6, "amphora resume c-1")
    good = run_verdicts.of_rounds("olive 1.0.0", [came("live", "done"), came("south", "nothing to do")], "")
    assert (good.words, good.code) == ("Done: olive 1.0.0 is in live, south.", 0)


@pytest.mark.parametrize(
    ("causes", "more", "count"),
    [
        ([Cause.EDITED, Cause.EDITED], {}, 2),
        ([Cause.EDITED, Cause.GONE], {}, 0),
        ([Cause.EDITED], {"dangling": {"flow:a": 1}}, 0),
        ([Cause.EDITED], {"lost": {"flow:a": ("b",)}}, 0),
        ([], {}, 0),
    ],
)
def test_only_edits_are_off_where_nothing_else_is(causes: list[Cause], more: dict[str, Any], count: int) -> None:
    off = {f"flow:{number}": Off(cause) for number, cause in enumerate(causes)}
    assert Proof("live", "olive", "1.0.0", None, (), off, **more).only_edited == count
