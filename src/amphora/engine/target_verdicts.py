"""What a look at a target came to, in one sentence: whether it is what was promised, and what was edited there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from amphora.core.values.keys import readable
from amphora.core.values.next_step import advice, blank, to_type
from amphora.core.values.words import counted, every
from amphora.engine.proof import Cause
from amphora.engine.verdicts import COUNTS, Verdict

if TYPE_CHECKING:
    from amphora.engine.edits import Edited
    from amphora.engine.proof import Proof


def of_proof(proof: Proof) -> Verdict:
    """Whether a target is what was promised, and what else of it is not as it was."""
    if proof.absent:
        return Verdict(proof.absent, "bad", to_type("compare", proof.package, proof.environment), COUNTS)
    what = f"of {proof.package} {proof.version}"
    # Told and not counted: what others did beside a run is no fault of it.
    strange = len(proof.changed_since)
    since = "since, not by this run" if proof.run else f"since {proof.others.since}, not by it"
    beside = f" Beside it {counted(strange, 'item')} changed there {since}." if strange else ""
    if proof.moved:
        beside += f" {counted(len(proof.moved), 'item')} at another address than people were told."
    if not proof.items and proof.is_whole:
        words = f"Nothing {what} is left to look at in {proof.environment}: later runs brought or removed it.{beside}"
        return Verdict(words, "plain", to_type("history", *([proof.run.name] if proof.run else [])))
    if proof.is_whole:
        theirs = f", but for {counted(len(proof.theirs), 'item')} handed over" if proof.theirs else ""
        words = f"{proof.environment} is as promised: {every(len(proof.items), 'item')} {what}{theirs}.{beside}"
        return Verdict(words, "good", to_type("history", *([proof.run.name] if proof.run else [])))
    verb = "differs" if len(proof.off) == 1 else "differ"
    parts = [f"{len(proof.off):,} of {counted(len(proof.items), 'item')} {verb}"] if proof.off else []
    lost = sum(map(len, proof.lost.values()))
    parts += [f"{counted(lost, 'reference leads', 'references lead')} nowhere"] if lost else []
    parts += [f"{counted(len(proof.broken), 'connection')} not answering"] if proof.broken else []
    shut = len(proof.pages.missing)
    parts += [f"{counted(shut, 'link leads', 'links lead')} to no page"] if shut else []
    parts += [f"{counted(len(proof.by_us), 'item')} changed that was not to be touched"] if proof.by_us else []
    words = f"{proof.environment} is not as promised: {', '.join(parts)}, {what}.{beside}"
    # One cause has a command of its own; several are looked at in a comparison.
    causes = {off.cause for off in proof.off.values()}
    after = to_type("compare", proof.package, proof.environment)
    if causes == {Cause.EDITED}:
        after = to_type("edits", proof.environment)
    elif causes == {Cause.REFUSED}:
        key = next(iter(proof.off))
        after = advice(
            f"Look at {readable(key)} there; what {proof.environment} never keeps is volatile in its sheet."
        )
    elif proof.lost:
        after = to_type("uses", proof.environment, readable(next(iter(proof.lost))))
    elif not causes and proof.pages.missing and not proof.broken and not proof.by_us:
        after = advice(f"Open {readable(min(proof.pages.missing))} in {proof.environment}, as people would.")
    elif not causes:
        after = to_type("env", "test", proof.environment)
    return Verdict(words, "bad", after, COUNTS)


def of_edits(
    environment: str,
    edits: Sequence[Edited],
    made: str,
    dockets: Sequence[str],
    origin: str = "",
    has_packages: bool = True,
) -> Verdict:
    """What was edited in an environment; `made` is the package that carries it back to its `origin`, `dockets` what
    puts it back. What was handed over counts for nothing: it is theirs to edit. Without any package in
    force there was nothing to look at."""
    if not edits and not has_packages:
        words = f"No package is in force in {environment}: nothing there counts as edited."
        return Verdict(words, "plain", to_type("overview"))
    if not edits:
        words = f"Nothing in {environment} was edited: all is as the packages in force delivered it."
        return Verdict(words, "good", to_type("history"))
    handed_over = sum(one.is_handed_over for one in edits)
    words = f"{counted(len(edits), 'item')} in {environment} edited since the packages in force delivered"
    words += f" {'it' if len(edits) == 1 else 'them'}"
    all_ = "" if handed_over < len(edits) else "it was " if handed_over == 1 else "all were "
    words += f"; {all_ or f'{handed_over} of them '}handed over before." if handed_over else "."
    after = to_type("edits", environment, "--carry-back")
    if made:
        words += f" They are in {made}, to be carried back."
        name = made.rpartition("/")[2].removesuffix(".amphora")
        after = to_type("compare", name, origin or blank("ENVIRONMENT"))
    elif dockets:
        words += f" What puts them back is in {', '.join(dockets)}."
        after = to_type("import", dockets[0])
    # Whoever asked for the package or the dockets has got them: nothing is left that a script should stop at.
    is_open = handed_over < len(edits) and not (made or dockets)
    return Verdict(words, "warn" if handed_over < len(edits) else "plain", after, COUNTS if is_open else 0)
