"""Verdicts: the first line of what a command says, its exit code, and what to do next. Whatever shows a result takes
them from here, so that a screen, a page, a document for machines and a script's exit code never disagree.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Literal

from amphora.core.needs.crosswalk import Mapped, MapState, row_name
from amphora.core.plan.actions import Do
from amphora.core.plan.aftercare import told
from amphora.core.plan.commands import to_import, to_withdraw
from amphora.core.plan.docket import Docket, Parting
from amphora.core.plan.reasons import Reason, Why
from amphora.core.values.keys import readable
from amphora.core.values.late import dataclass
from amphora.core.values.model import Contents, Finding, Level
from amphora.core.values.next_step import NOTHING, NextStep, blank, open_value, to_type
from amphora.core.values.words import begun, counted, every, few
from amphora.ledger.records import OPEN

if TYPE_CHECKING:
    from amphora.engine.compare import Differences
    from amphora.engine.export import ExportReport
    from amphora.engine.runs.outcome import Outcome
    from amphora.engine.verify import Verified
    from amphora.ledger.records import Run

Standing = Literal["plain", "good", "warn", "bad"]

COUNTS = 1
CLOSED = 3
REFUSED = 4
PAUSED = 5
BROKEN = 6
INTERRUPTED = 130
"""Exit codes (design, section 9) that are no error: there is something that counts; the gate is closed; a
target refused, and is as it was; somebody has to set something up; something is done and has to be finished; somebody
interrupted it."""

TO_MAP = "need-open"
"""The rule whose findings are answered by mapping."""


@dataclass(frozen=True)
class Verdict:
    """What a command came to: the sentence, how it stands, the exit code, the next step."""

    words: str
    standing: Standing = "plain"
    next_step: NextStep = NOTHING
    code: int = 0


def at_stake(docket: Docket) -> str:
    """What an import would do, in one sentence."""
    if docket.is_settled:
        # Of what stays as somebody made it there "already has" would be half of the truth.
        edits = f"; {counted(len(docket.edited), 'local edit stays', 'local edits stay')}" if docket.edited else ""
        out = f", but for {counted(len(docket.left_out), 'item')} left out" if docket.left_out else ""
        dropped = len(docket.fated(Parting.STAY))
        more = f"; {counted(dropped, 'item stays', 'items stay')} that it no longer holds" if dropped else ""
        refused = [a for a in docket.actions if a not in docket.edited and a.is_decided]
        more += f"; {counted(len(refused), 'item stays', 'items stay')} as decided" if refused else ""
        already = "" if edits or out or more else "already "
        verb = "Only the custody changes" if docket.hands_over else "Nothing to do"
        return f"{verb}: {docket.target} {already}has {docket.title}{out}{edits}{more}.{_custody(docket)}"
    parts = [f"{len(docket.by(Do.CREATE)):,} new", f"{len(docket.by(Do.UPDATE)):,} changed"]
    # Counted by themselves: somebody's repair is what an approver looks for first.
    # "Kept" is read as a promise, so that what is in question, or given up, has words of its own.
    if any(action in docket.edited for action in docket.undecided):
        parts.append(f"{counted(len(docket.edited), 'local edit')} at stake")
    else:
        parts += [f"{counted(len(docket.kept), 'local edit')} kept"] if docket.kept else []
        parts += [f"{counted(len(docket.given_up), 'local edit')} given up"] if docket.given_up else []
    if docket.undecided:
        parts.append(f"{len(docket.undecided):,} to decide")
    if docket.loading:
        parts.append(f"{counted(sum(docket.loading.values()), 'row')} to load")
    gone = docket.fated(Parting.RETIRE)
    rows = sum(one.present.rows or 0 for one in gone)
    end = f"{counted(len(gone), 'item')} removed" if gone else "nothing removed"
    end += f" with {counted(rows, 'row')}" if rows else ""
    if let_go := docket.fated(Parting.LET_GO):
        end += f", {len(let_go):,} let go"
    more = f"{_custody(docket)}{_conversions(docket)}{_pauses(docket)}"
    return f"{docket.title} into {docket.target}: {', '.join(parts)}, {end}.{more}"


def _custody(docket: Docket) -> str:
    """That what is there comes into other hands."""
    return f" From now on it is in the {docket.custody.value}'s custody." if docket.hands_over else ""


def _conversions(docket: Docket) -> str:
    """That items get another shape, and whether something is left behind by that."""
    mine = [one for one in docket.converted if not one.unfit]
    if not mine:
        return ""
    dropped = sum(len(one.dropped) for one in mine)
    lost = f", {counted(dropped, 'field')} left behind" if dropped else ""
    return f" {counted(len(mine), 'item')} converted to the shape there{lost}."


def _pauses(docket: Docket) -> str:
    """That an import will pause: how often, after what, and who is needed then."""
    if not docket.pauses:
        return _passed_over(docket)
    titles = {action.key: action.states.title for action in docket.actions}
    after = [titles[maker] for leg in docket.pauses for maker in dict.fromkeys(docket.makers[n] for n in leg.waits)]
    who = list(dict.fromkeys(words for leg in docket.pauses for words in leg.who))
    often = {1: "once", 2: "twice"}.get(len(docket.pauses), f"{len(docket.pauses):,} times")
    return f" Pauses {often}, after {few(after)}{': you need ' + few(who) if who else ''}.{_passed_over(docket)}"


def _passed_over(docket: Docket) -> str:
    """That an import doesn't wait where somebody wanted it to, for that item has nothing to wait for."""
    titles = {action.key: action.states.title for action in docket.actions}
    passed = sorted(titles[key] for key in docket.pause_after.keys() - {*docket.makers.values()} if key in titles)
    reason = f"{'they stay as they are' if len(passed) > 1 else 'it stays as it is'} there"
    return f" No pause after {few(passed)}: {reason}." if passed else ""


def of_comparison(docket: Docket, reasons: Sequence[Reason]) -> Verdict:
    """A package against a target. `reasons` are what an import would stop at."""
    words = at_stake(docket) + _in_the_way(reasons)
    words += f" The docket is in {docket.file}." if docket.file else ""
    is_same = docket.is_settled
    code = CLOSED if reasons else 0 if is_same else COUNTS
    return Verdict(words, "warn" if reasons else "plain", _after(docket, reasons), code)


def of_preview(docket: Docket, reasons: Sequence[Reason]) -> Verdict:
    """What an import would do, with the exit code that it would have."""
    words = f"Preview, nothing was touched. {at_stake(docket)}{_in_the_way(reasons)}"
    code = CLOSED if reasons else 0
    return Verdict(words, "warn" if reasons else "plain", _after(docket, reasons), code)


def of_nothing_to_do(docket: Docket) -> Verdict:
    """There was nothing to import."""
    return Verdict(at_stake(docket), "good", _after_nothing(docket))


def of_import(docket: Docket, outcome: Outcome, verified: Sequence[Verified]) -> Verdict:
    """An import was carried out, and looked at afterwards."""
    wrong = [one for one in verified if not one.is_as_promised]
    gone = docket.fated(Parting.RETIRE)
    retired = f", {counted(sum(outcome.loaded.values()), 'row')} loaded" if outcome.loaded else ""
    retired += f", {len(gone):,} retired" if gone else ""
    checked = f"{every(len(verified), 'item') if len(verified) > 1 else counted(len(verified), 'item')} verified"
    if outcome.unverified:
        checked = f"not verified ({outcome.unverified})"
    elif wrong:
        checked = f"{counted(len(wrong), 'item is', 'items are')} not as promised"
    leg = f"; in leg {outcome.run.leg}" if outcome.run.leg > 1 else ""
    words = f"Done: {docket.title} is in {docket.target}{leg}, {len(docket.by(Do.CREATE)):,} created,"
    # Left alone by an import that says nothing of it, somebody's work would look like the package's.
    kept = f", {counted(len(docket.kept), 'local edit')} kept" if docket.kept else ""
    words += f" {len(docket.by(Do.UPDATE)):,} updated{retired}{kept}; {checked}. Run {outcome.run.name}."
    still = [entry.task for entry in outcome.care if entry.state == OPEN]
    words += _passed_over(docket)
    words += f" Still to do: {told(still)}." if still else ""
    # What is missing first: a proof, then what is left to do, then nothing but the record.
    after = to_type("verify" if outcome.unverified else "aftercare" if still else "history", outcome.run.name)
    return Verdict(words, "bad" if wrong else "good", after, COUNTS if wrong or outcome.unverified else 0)


def of_difference(left: str, right: str, found: Differences) -> Verdict:
    """Two sides against each other, with nobody importing anything."""
    counts = (len(found.changed), len(found.only_left), len(found.only_right))
    if not any(counts):
        if not found.named:
            return Verdict(f"{left} and {right} are the same.", "good")
        # Of the rest nothing is said, for nobody looked.
        what = readable(found.named[0]) if len(found.named) == 1 else f"These {len(found.named)} items"
        return Verdict(f"{what} {'is' if len(found.named) == 1 else 'are'} the same in {left} and {right}.", "good")
    words = f"{counted(counts[0], 'differs', 'differ')}, {counts[1]} only in {left}, {counts[2]} only in {right}."
    return Verdict(words, code=COUNTS)


def of_check(
    contents: Contents,
    findings: Mapping[str, Sequence[Finding]],
    reasons: Mapping[str, Sequence[Reason]],
    fix: NextStep = NOTHING,
    is_strict: bool = False,
) -> Verdict:
    """Findings for each target ('' for the package by itself), and what an import there would stop at; `fix` is the
    command that mends what Amphora can mend."""
    # Told once: a reason that a finding explains is not repeated under another heading.
    ways = untold(findings, reasons)
    levels = {finding.level for rows in findings.values() for finding in rows}
    # Reasons that a finding tells of already count all the same: somebody may have set that rule to a note.
    is_closed = Level.ERROR in levels or any(reasons.values())
    standing: Standing = "bad" if is_closed else "warn" if Level.WARNING in levels else "good"
    code = CLOSED if is_closed else COUNTS if is_strict and standing == "warn" else 0
    words = " ".join(can_go(contents, target, rows, ways.get(target, ())) for target, rows in findings.items())
    return Verdict(words, standing, _after_check(contents, findings, ways, fix), code)


def can_go(contents: Contents, target: str, findings: Sequence[Finding], ways: Sequence[Reason] = ()) -> str:
    """Whether a package can go to a target, in one sentence."""
    errors = sum(finding.level is Level.ERROR for finding in findings)
    missing = sum(finding.rule == "item-missing" and finding.level is Level.ERROR for finding in findings)
    # Apart from the warnings: it is a job with a command of its own.
    to_map = sum(finding.rule == TO_MAP for finding in findings)
    pauses = sum(finding.rule == "need-later" for finding in findings)
    warnings = sum(f.level is Level.WARNING and f.rule != TO_MAP for f in findings)
    parts = [f"{counted(missing, 'item')} missing"] if missing else []
    parts += [counted(errors - missing, "other error" if missing else "error")] if errors > missing else []
    parts += [f"{to_map} to map"] if to_map else []
    parts += [counted(warnings, "warning")] if warnings else []
    parts += ["a pause for set-up"] if pauses else []
    if not target:
        return f"{contents.title} by itself: {', '.join(parts) or 'nothing amiss'}."
    # By cause and not one by one: the sentence has to stay one.
    parts += list(dict.fromkeys(reason.why.value for reason in ways))
    if errors or to_map or ways:
        return f"Not yet for {target}: {', '.join(parts)}."
    return f"{contents.title} can go to {target}{': ' + ', '.join(parts) if parts else ''}."


_TOLD: Mapping[Why, tuple[str, ...]] = {
    Why.NEED: (TO_MAP,),
    Why.PAUSE: ("need-later",),
    Why.PERMISSION: ("permission-missing",),
    Why.TAKEN: ("name-taken",),
    Why.UNKNOWN: ("kind-unknown", "schema-other", "conversion-unfit"),
}
"""Reasons that findings tell of as well, unless somebody silenced those."""


def untold(
    findings: Mapping[str, Sequence[Finding]], reasons: Mapping[str, Sequence[Reason]]
) -> dict[str, list[Reason]]:
    """For each target the reasons of which no finding tells."""

    def is_told(reason: Reason, rows: Sequence[Finding]) -> bool:
        rules = _TOLD.get(reason.why, ())
        return reason.why is Why.FINDING or any(finding.rule in rules for finding in rows)

    return {t: [r for r in rows if not is_told(r, findings.get(t, ()))] for t, rows in reasons.items()}


def steps_of(findings: Sequence[Finding]) -> list[NextStep]:
    """What some findings say is to be done, each once."""
    return list(dict.fromkeys(finding.next_step for finding in findings if finding.next_step))


def of_mapping(contents: Contents, mapped: Mapping[str, Sequence[Mapped]]) -> Verdict:
    """How far the mapping is, for each environment."""
    needs = [one for rows in mapped.values() for one in rows]
    still = still_open(needs)
    names = " and ".join(mapped)
    if not still:
        words = _all_mapped(contents, needs, names)
        return Verdict(words, "good", to_type("compare", contents.spoken, next(iter(mapped))))
    guessed = sum(one.state is MapState.GUESSED for one in needs)
    words = f"{len(still):,} of {counted(len(needs), 'need')} of {contents.title} to be mapped for {names}"
    words += f", {guessed} of them guessed." if guessed else "."
    # One target at a time: `--set` takes values for one only.
    first = still[0].environment
    after = to_type("map", contents.spoken, first, *_answers([one for one in still if one.environment == first]))
    return Verdict(words, "warn", after, COUNTS)


def _all_mapped(contents: Contents, needs: Sequence[Mapped], names: str) -> str:
    secrets = sum(one.need.kind == "secret" for one in needs)
    later = sum(one.state is MapState.LATER for one in needs)
    if len(needs) == secrets:
        return f"{contents.title} needs nothing that would have to be mapped for {names}."
    whose = f"of {contents.title}"
    all_ = begun(f"{every(len(needs), 'need')} {whose} {'is' if len(needs) == 1 else 'are'}")
    paused = f", {later} in a pause of the import" if later else ""
    if not secrets:
        return f"{all_} mapped for {names}{paused}."
    # Counted as everywhere else; but a secret is entered there, and never mapped.
    entered = f"{counted(secrets, 'secret')} to be entered there"
    return f"{all_} seen to for {names}: {len(needs) - secrets - later:,} mapped{paused}, {entered}."


def still_open(needs: Sequence[Mapped]) -> list[Mapped]:
    """The needs that somebody has to map."""
    done = (MapState.MAPPED, MapState.LATER)
    return [one for one in needs if one.state not in done and one.need.kind != "secret"]


def of_export(report: ExportReport, target: str) -> Verdict:
    """A package was made, or would be, or nothing had changed."""
    contents = report.contents
    what = f"{counted(len(contents.items), 'item')} from {contents.source}"
    words = f"Packed {contents.title}: {what}, in {report.shown_path}."
    if report.is_unchanged:
        words = f"Nothing changed since {contents.title}: {what}, in {report.shown_path}."
    elif report.is_preview:
        words = f"Preview, nothing was written: {contents.title} would hold {what}."
    after = report.command if report.is_preview else to_type("check", contents.spoken, target)
    return Verdict(words, "good", after)


def of_withdrawal(docket: Docket, run: Run | None) -> Verdict:
    """A withdrawal, before its run or after it."""
    gone, free = len(docket.fated(Parting.RETIRE)), len(docket.fated(Parting.LET_GO))
    # Neither retired nor let go, and yet claimed until now: silence would leave somebody to count.
    rest = f", {len(docket.unclaimed):,} left alone (another package's too, or gone)" if docket.unclaimed else ""
    if run is not None:
        kept = f"; definitions and rows are kept in runs/{run.name}" if gone else ""
        words = (
            f"Done: {docket.package} is withdrawn from {docket.target}, {gone} retired, {free} let go{rest}{kept}."
        )
        return Verdict(words, "good", to_type("history", run.name))
    rows = sum(one.present.rows or 0 for one in docket.fated(Parting.RETIRE))
    what = f"{counted(gone, 'item')} to retire" + (f", {free} to let go" if free else "")
    what += rest
    what += f", {counted(rows, 'row')} at stake" if rows else ""
    what += f", {len(docket.edited_there):,} edited there since" if docket.edited_there else ""
    words = f"Withdrawing {docket.package} from {docket.target}: {what}. Nothing was touched."
    return Verdict(words, "warn", to_withdraw(docket, "--retire-all"), COUNTS)


def _in_the_way(reasons: Sequence[Reason]) -> str:
    if not reasons:
        return ""
    return f" Not as it stands: {few(list(dict.fromkeys(r.why.value for r in reasons)))}."


def _after(docket: Docket, reasons: Sequence[Reason]) -> NextStep:
    """The next command; whatever comes next keeps naming the docket."""
    if reasons:
        return next((reason.next_step for reason in reasons if reason.next_step), NOTHING)
    return _after_nothing(docket) if docket.is_idle and not docket.hands_over else to_import(docket)


def _after_nothing(docket: Docket) -> NextStep:
    """Nothing to bring: what is left to ask is whether it is as promised, or who made it otherwise."""
    return to_type("edits", docket.target) if docket.edited else to_type("verify", docket.package, docket.target)


def _after_check(
    contents: Contents,
    findings: Mapping[str, Sequence[Finding]],
    ways: Mapping[str, Sequence[Reason]],
    fix: NextStep,
) -> NextStep:
    targets = [target for target in findings if target]
    errors = [finding for rows in findings.values() for finding in rows if finding.level is Level.ERROR]
    # What one command can mend comes first, whatever else there is; only against a target, for by itself a package
    # can't know what is missing.
    if any(finding.rule == "item-missing" for finding in errors) and targets and fix:
        return fix
    if errors:
        steps = steps_of(errors)
        return steps[0] if steps else to_type("check", contents.spoken, *targets)
    if unmapped := [t for t, rows in findings.items() if t and any(f.rule == TO_MAP for f in rows)]:
        return to_type("map", contents.spoken, *unmapped)
    first = next((reason for rows in ways.values() for reason in rows), None)
    if first and first.next_step:
        return first.next_step
    return to_type("compare", contents.spoken, targets[0] if targets else blank("ENVIRONMENT"))


def _answers(still: Sequence[Mapped]) -> list[str]:
    """The options that would answer what is open."""
    words = ["--accept"] if any(one.state is MapState.GUESSED for one in still) else []
    # Guesses need no value: `--accept` takes all of them.
    names = dict.fromkeys(row_name(one.need.key) for one in still if one.state is MapState.OPEN)
    return words + [word for name in names for word in ("--set", open_value(name))]
