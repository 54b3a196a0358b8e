"""The guided way at work: one command after the other, as they would be typed."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Mapping, Sequence
from contextlib import redirect_stdout
from dataclasses import field
from typing import Any, NoReturn

import typer

from amphora.cli.boundary import code_of
from amphora.cli.work import Work, elsewhere
from amphora.core.plan import consents
from amphora.core.values.errors import AmphoraError, UsageFault
from amphora.core.values.late import dataclass
from amphora.core.values.next_step import NOTHING, NextStep, advice, blank, to_type
from amphora.core.values.words import counted
from amphora.engine.aftercare import open_care
from amphora.engine.edits import Edited, edits_of, still_ours
from amphora.engine.journey import Journey, next_stop, route_from
from amphora.render.json_text import error_json
from amphora.render.result import Block, Lines, Result, Tone

MOST_LINES = 40
LATER = {"to decide", "to agree to", "agreement"}
"""What is in the way and is settled by the docket."""
EDITS = ("keep", "replace", "carry-back")
"""What can become of what somebody changed in the target directly."""


@dataclass(frozen=True)
class Ran:
    """One command that was run: its words, its exit code, what it said for machines."""

    words: tuple[str, ...]
    code: int
    said: dict[str, Any]

    @property
    def verdict(self) -> str:
        return str(self.said.get("verdict") or self.said.get("error", {}).get("message", ""))


@dataclass
class Guide:
    """Runs one command after the other, and stops where somebody has to do something first."""

    work: Work
    journey: Journey
    edits: str
    yes: bool
    why: str
    accept: bool = False
    said: tuple[tuple[str, ...], ...] = ()
    """What else was typed."""
    done: list[Ran] = field(default_factory=list)

    def print_only(self) -> NoReturn:
        """Shows the commands without running any."""
        way = route_from(self.work.session, self.journey.source)
        target = self.journey.target or (way[0] if way else "")
        if not target:
            self._nowhere()
        docket = f"{self.journey.name}.{target}.docket.yaml"
        package = self.journey.name
        # What will be typed, word for word: who reads it can do it without us.
        commands = [
            self.journey.export,
            ("check", package, target),
            ("map", package, target, "--accept"),
            ("compare", package, target, "--docket", docket),
            ("import", docket, "--yes", *(["--why", self.why] if self.why else [])),
            ("aftercare", target, "--do"),
            ("verify", package, target),
        ]
        lines = [str(_typed(words)) for words in commands]
        self._show(
            f"These would be run to carry {package} from {self.journey.source} into {target}.",
            "plain",
            lines,
            to_type("carry", *self._again(target)),
        )

    def go(self) -> NoReturn:
        """Carries the journey out."""
        exported = self.run(*self.journey.export)
        if exported.code:
            self.stop(exported)
        package = self.journey.name
        version = str(exported.said["version"])
        session = self.work.session
        # Looked for after the export: only then it is known which version the others lack.
        target = self.journey.target or next_stop(session, package, version, self.journey.source)
        if not target:
            self._everywhere(f"{package} {version}")
        self._go_on_with_open(package, version, target)
        edited = self._edited_there(package, target)
        how = self._decided(edited, target) if edited else ""
        self._checked(package, target)
        docket = f"{package}-{version}.{target}.docket.yaml"
        compared = self._compared(package, target, docket, how, edited)
        agreeing = [one for one in compared.said.get("agrees_to", ()) if not how or one["whose"] != consents.EDITS]
        if agreeing:
            self._ask_for_others(agreeing, docket)
        # Where nothing would change nobody is asked.
        elif compared.code or any(action["do"] != "leave" for action in compared.said.get("actions", ())):
            self._ask(compared)
        imported = self.run("import", docket, "--yes", *(["--why", self.why] if self.why else []))
        # Taken before it may stop: the run is what the next command has to name.
        run = str(imported.said.get("run", ""))
        if imported.code:
            self.stop(imported)
        self._finished(package, version, target, run, how == "keep")

    def _finished(self, package: str, version: str, target: str, run: str, keeps: bool = False) -> NoReturn:
        """Aftercare that can be done, then the proof; with `keeps` local edits are what somebody wanted."""
        left = [entry for entry in open_care(self.work.session, target) if entry.package == package]
        if left and self.work.is_terminal:
            # With all that it shows: a secret is asked for there, and nowhere else.
            self.run_openly("aftercare", target, "--do")
        elif left:
            self.run("aftercare", target, "--do")
        if left:
            left = [entry for entry in open_care(self.work.session, target) if entry.package == package]
        verified = self.run("verify", package, target)
        kept = int(verified.said.get("only_edited", 0)) if keeps else 0
        if verified.code and not kept:
            self.stop(verified)
        words = f"{package} {version} is in {target}, and as promised."
        if kept:
            words = f"{package} {version} is in {target}, but for {counted(kept, 'local edit')} kept there."
        if not left:
            self._show(f"{words} Nothing is left to do.", "good", after=to_type("history", *([run] if run else [])))
        lines = [f"- {entry.task.words}" for entry in left]
        self._show(f"{words} Still to be done by somebody:", "warn", lines, to_type("aftercare", target))

    def _go_on_with_open(self, package: str, version: str, target: str) -> None:
        """A run of it that stopped in its middle, or waits, comes first."""
        runs = self.work.session.ledger.journal.runs()
        mine = [run for run in runs if run.is_open and (run.package, run.environment) == (package, target)]
        if not mine:
            return
        # Before a new import: two runs into one target would each undo what the other brought.
        resumed = self.run("resume", mine[0].name)
        if resumed.code:
            self.stop(resumed)
        self._finished(package, version, target, mine[0].name)

    def _edited_there(self, package: str, target: str) -> list[Edited]:
        """What somebody changed of a package in the target directly."""
        # A target that was never delivered to has nothing that could have been edited.
        known = self.work.session.ledger.environments().values()
        found = edits_of(self.work.session, target) if target in known else []
        return [one for one in still_ours(found) if one.delivery.package == package]

    def _decided(self, mine: list[Edited], target: str) -> str:
        """What becomes of it: said first, before anything is decided."""
        self.tell([f"{len(mine)} of its items {'was' if len(mine) == 1 else 'were'} changed in {target} directly:"])
        self.tell([f"  {one.title}" for one in mine[:12]])
        how = self.edits
        if not how and self.work.is_terminal:
            how = str(typer.prompt("keep them, replace them, or carry-back first", default="keep", err=True)).strip()
        if how not in EDITS:
            again = to_type("carry", *self._again(target, "--edits", "keep"))
            lines = ["keep: they stay", "replace: as in the package", "carry-back: they become a package first"]
            self._show(f"{target} has local edits: say what becomes of them.", "warn", lines, again, 3)
        if how == "carry-back":
            self.run("edits", target, "--carry-back")
            back = _typed(("carry", *self._again(target)))
            words = f"The edits of {target} are in a package. Bring them into {self.journey.source} first."
            after = to_type("compare", f"{target}-edits", self.journey.source)
            self._show(words, "warn", [f"Then go on with: {back}"], after, 3)
        return how

    def _checked(self, package: str, target: str) -> None:
        """Everything has to be there and mapped; what Amphora can mend and guess, it does."""
        checked = self.run("check", package, target)
        if checked.code == 0:
            return
        if not _stops(checked.said):
            return
        rules = {row["rule"] for row in checked.said.get("findings", ()) if row["level"] != "note"}
        # Mended before anything is mapped: a missing item brings needs of its own.
        if "item-missing" in rules:
            checked = self.run("check", package, target, "--fix")
        if "need-open" in rules or checked.code:
            self._mapped(package, target)
            checked = self.run("check", package, target)
        if checked.code and _stops(checked.said):
            self.stop(checked)

    def _mapped(self, package: str, target: str) -> None:
        """The needs: guesses are taken with somebody's word only, the rest is asked for, or stops."""
        mapped = self.run("map", package, target)
        guesses = [
            f"  {need['need'].partition(':')[2]} = {need['value']} ({need['reason']})"
            for need in mapped.said.get("needs", ())
            if need["state"] == "guessed"
        ]
        # Shown with their reasons: a guess that is taken blindly is a wrong database on a Friday.
        if guesses:
            self.tell(["  guessed:", *guesses[:MOST_LINES]])
            if not self.accept and self.work.is_terminal:
                self.accept = typer.confirm("Take these guesses?", default=True, err=True)
            if self.accept:
                mapped = self.run("map", package, target, "--accept")
            elif not self.work.is_terminal:
                again = to_type("carry", *self._again(target, "--accept"))
                self._show(f"{mapped.verdict} Look at them, and accept them.", "warn", guesses, again, 3)
        if mapped.code and self.work.is_terminal:
            self.run_openly("map", package, target, "--ask")
        elif mapped.code:
            self.stop(mapped, 3)

    def _compared(self, package: str, target: str, docket: str, how: str, edited: list[Edited]) -> Ran:
        """The docket, with every question answered."""
        words: tuple[str, ...] = ("compare", package, target, "--docket", docket)
        if how == "replace":
            # Each item's local edits are given up by name.
            words = (*words, *(word for one in edited if one.changes for word in ("--choose", f"{one.key}=package")))
        compared = self.run(*words)
        # What both sides changed is in question only where they differ: there the target's stays.
        if how == "keep" and (kept := _clashes(compared.said)):
            words = (*words, *kept)
            compared = self.run(*words)
        if (
            compared.code == 3
            and self.work.is_terminal
            and any(reason["why"] == "to decide" for reason in compared.said.get("in_the_way", ()))
        ):
            self.run_openly(*words, "--decide")
            compared = self.run("peek", docket)
        if compared.code == 3 or compared.said.get("open"):
            self.stop(compared, 3)
        return compared

    def _ask_for_others(self, agreeing: Sequence[Mapping[str, Any]], docket: str) -> None:
        """Others' work that would be changed or cut off: no `--yes` covers it."""
        lines = [line for one in agreeing for line in (f"{one['what']}:", *(f"- {line}" for line in one["details"]))]
        words = f"{self.journey.name} is not carried yet: that needs somebody's word. Nothing was touched."
        after = advice(f"Look at {docket}, and import it if it is right", to_type("import", docket))
        if not self.work.is_terminal:
            self._show(words, "warn", lines, after, 3)
        self.tell(["", *lines])
        if not typer.confirm("Do you agree?", err=True):
            self._show(words, "plain", lines, after, 3)

    def _ask(self, compared: Ran) -> None:
        """The one question, before anything is touched."""
        if self.yes:
            return
        if not self.work.is_terminal:
            again = to_type("carry", *self._again(self.journey.target), "--yes")
            self._show(f"Nobody is here to confirm; nothing was touched. {compared.verdict}", "warn", [], again, 3)
        if not typer.confirm(f"{compared.verdict} Go on?", err=True):
            self._show("Nothing was touched.", "plain", code=3)

    def _again(self, target: str, *more: str) -> list[str]:
        """The words with which the same journey is begun once more, with `more` said."""
        places = [target] if target else []
        said = [*(word for words in self.said for word in words), *more, *(["--yes"] if self.yes else [])]
        if not self.journey.items:
            return [self.journey.name, *places, *said]
        return [*self.journey.items, self.journey.source, *places, "--as", self.journey.name, *said]

    def run(self, *words: str) -> Ran:
        """Runs one command as it would be typed, and tells what it came to."""
        from amphora.cli.main import app

        self.tell(["", f"$ {_typed(words)}"])
        out = io.StringIO()
        place = ["--workspace", str(self.work.session.workspace.folder), "--json"]
        # Each command is a call of its own, and sees what the one before wrote.
        self.work.session.reload()
        try:
            with redirect_stdout(out):
                code = int(app([*words, *place], standalone_mode=False) or 0)
            said = json.loads(out.getvalue())
        # As if it had been typed: the journey knows commands by their codes and nothing else.
        except AmphoraError as error:
            code = code_of(error)
            said = json.loads(error_json(error, code))
        self.work.session.reload()
        self.done.append(Ran(tuple(words), code, said))
        self.tell([f"  {self.done[-1].verdict}"])
        return self.done[-1]

    def run_openly(self, *words: str) -> None:
        """Runs a command that asks at the terminal, with all that it shows."""
        from amphora.cli.main import app

        self.tell(["", f"$ {_typed(words)}"])
        app([*words, "--workspace", str(self.work.session.workspace.folder)], standalone_mode=False)
        self.work.session.reload()

    def stop(self, ran: Ran, code: int = 0) -> NoReturn:
        """Shows why it can't go on, as the command said it, and what to do."""
        lines = [str(line) for line in ran.said.get("error", {}).get("details", ())]
        lines += [f"- {reason['message']}" for reason in ran.said.get("in_the_way", ()) if isinstance(reason, dict)]
        # What is to be done leads to commands of its own, which know nothing of the journey.
        lines += [f"Then go on with: {_typed(('carry', *self._again(self.journey.target)))}"] if self.done else []
        after = advice(str(ran.said.get("next", "")))
        words = f"{self.journey.name} is not carried yet: {ran.words[0]} stopped. {ran.verdict}"
        self._show(words, "warn", lines, after, code or ran.code)

    def tell(self, lines: list[str]) -> None:
        """Tells what goes on, beside the result."""
        self.work.tell(lines)

    def _nowhere(self) -> NoReturn:
        raise UsageFault(
            f"Nothing comes behind {self.journey.source}: say where to carry it to.",
            subject=self.journey.source,
            next_step=to_type("carry", *self._again(blank("TO"))),
        )

    def _everywhere(self, title: str) -> NoReturn:
        words = f"{title} is in force wherever the route leads: nothing to carry."
        self._show(words, "good", after=to_type("overview"))

    def _show(
        self, words: str, tone: Tone, lines: list[str] | None = None, after: NextStep = NOTHING, code: int = 0
    ) -> NoReturn:
        """Shows how the journey stands, and leaves."""
        blocks: list[Block] = [Lines(lines)] if lines else []
        steps = [{"command": to_type(*ran.words), "code": ran.code, "verdict": ran.verdict} for ran in self.done]
        result = Result("carry", words, tone, blocks, {"steps": steps, "package": self.journey.name}, after, code)
        if self.done:
            self.tell([""])
        self.work.show(result, has_changed=bool(self.done))
        raise typer.Exit(0)


def _typed(words: Iterable[str]) -> NextStep:
    """A command as it would be typed here."""
    return to_type(*words).everywhere(*elsewhere())


def _stops(said: dict[str, Any]) -> bool:
    """Whether a check found what has to be mended before anybody decides on anything."""
    levels = {row["level"] for row in said.get("findings", ())}
    whys = {reason["why"] for rows in said.get("in_the_way", {}).values() for reason in rows}
    return "error" in said or "error" in levels or bool(whys - LATER)


def _clashes(said: dict[str, Any]) -> list[str]:
    """The choices that keep the target's side wherever a comparison has an open question."""
    return [
        word
        for action in said.get("actions", ())
        for change in action["changes"]
        if change.get("open")
        for word in ("--choose", f"{action['key']}@/{change['place'].lstrip('/')}=target")
    ]
