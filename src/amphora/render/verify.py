"""The result of verify: on a screen, in Markdown, as JUnit XML."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping, Sequence

from amphora.core.form.bindings import MISSING
from amphora.core.merge.merge import FieldChange
from amphora.core.merge.phrase import place_phrase
from amphora.core.values.keys import readable
from amphora.core.values.next_step import to_type
from amphora.core.values.visible import visible
from amphora.core.values.words import begun, counted, every, few
from amphora.engine.pages import Pages
from amphora.engine.proof import Off, Proof
from amphora.engine.target_verdicts import of_proof
from amphora.engine.verdicts import COUNTS
from amphora.engine.verify import Verified
from amphora.render.changes import changes_grid
from amphora.render.markdown import md
from amphora.render.result import Block, Cell, Grid, Lines, Result, Row, cut_lines, titled

AS_PROMISED, NOT_SO = "as promised", "not as promised"
_NOT_IN_XML = re.compile("[^\t\n\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def proofs_result(package: str, each: Mapping[str, Proof]) -> Result:
    """Whether several targets are what was promised: a line each, then what is off."""
    single = {name: proof_result(proof) for name, proof in each.items()}
    # What is off, and nothing else, is told in full: ten targets that are right are ten lines.
    wrong = [name for name, proof in each.items() if not proof.is_whole]
    rows: list[Row] = [
        [
            Cell(name, "strong"),
            proof.version,
            Cell(AS_PROMISED, "good") if proof.is_whole else Cell("not there" if proof.absent else NOT_SO, "bad"),
            f"{len(proof.items) - len(proof.off)} of {len(proof.items)}",
        ]
        for name, proof in each.items()
    ]
    blocks: list[Block] = [Grid(["target", "version", "", "items"], rows, right=(3,))]
    for name in wrong:
        blocks += [Lines([], name), *single[name].blocks]
    words = begun(f"{every(len(each), 'target')} are as promised: {package}.")
    if wrong:
        verb = "is" if len(wrong) == 1 else "are"
        words = f"{len(wrong)} of {len(each)} targets {verb} not as promised: {few(wrong, 8)}."
    # One next step, that of the first: two commands in a last line are none.
    after = single[wrong[0]].next_step if wrong else to_type("history")
    data = {"package": package, "targets": [result.data for result in single.values()]}
    return Result("verify", words, "bad" if wrong else "good", blocks, data, after, COUNTS if wrong else 0)


def proof_result(proof: Proof) -> Result:
    """Whether one target is what was promised: respect by respect, then what is off."""
    if proof.absent:
        return Result.of("verify", of_proof(proof), [Lines([Cell(proof.absent, "bad")])], proof_json(proof))
    rows: list[Row] = [
        [name, words, Cell(said, "good" if is_good else "bad" if is_good is False else "dim")]
        for name, words, said, is_good in respects(proof)
    ]
    blocks: list[Block] = [Grid(["looked at", "of", "found"], rows)]
    for one in proof.items:
        if off := proof.off.get(one.key):
            blocks += _off_blocks(one, off, proof.dangling.get(one.key, 0))
    blocks += [
        Lines(cut_lines([f"- {visible(line)}" for line in lines], "--json"), title)
        for title, lines in _beside(proof)
        if lines
    ]
    return Result.of("verify", of_proof(proof), blocks, proof_json(proof))


def respects(proof: Proof) -> list[tuple[str, str, str, bool | None]]:
    """In which respects it was looked: the respect, what of it, what was found, and whether that is good; None where
    nobody can tell, or it is for people to judge."""
    wrong, states = len(proof.off), len(proof.stateless)
    dangling = sum(proof.dangling.values()) + sum(map(len, proof.lost.values()))
    answering = [one for one in proof.connections if one.is_working]
    # Counted apart: what nobody can try is neither good nor bad.
    untold = len(proof.connections) - len(answering) - len(proof.broken)
    found: list[tuple[str, str, str, bool | None]] = [
        (
            "definitions and states",
            counted(len(proof.items), "item"),
            f"{wrong} {NOT_SO}" if wrong else _all_good(proof) if proof.items else "nothing left to look at",
            not wrong if proof.items else None,
        ),
        (
            "switched, published",
            counted(len(proof.items), "item"),
            f"{states} otherwise" if states else "as wished",
            not states,
        ),
        (
            "references",
            counted(proof.references, "place"),
            f"{dangling} lead nowhere" if dangling else "each leads somewhere",
            not dangling,
        ),
    ]
    if proof.connections:
        said = [counted(len(answering), "answers", "answer")] if answering else []
        said += [counted(len(proof.broken), "does not answer", "do not answer")] if proof.broken else []
        said += [f"{untold} can't be tried from here"] if untold else []
        # One broken connection is a fault, whatever the others say.
        is_good = False if proof.broken else True if answering else None
        found.append(("connections", counted(len(proof.connections), "connection"), ", ".join(said), is_good))
    if proof.links:
        said = [f"{len(proof.moved)} are elsewhere by now" if proof.moved else "where people were told"]
        pages = proof.pages
        said += [counted(len(pages.closed), "doesn't open", "don't open")] if pages.closed else []
        every = "all open" if pages.tried == proof.links else f"{pages.tried} tried, which open"
        said += [every if pages.tried > 1 else "opens"] if pages.tried and not pages.closed else []
        # What is elsewhere is no fault in what stands there, but people have to be told.
        is_good = False if pages.missing else None if proof.moved or pages.closed else True
        found.append(("links", counted(proof.links, "link"), ", ".join(said), is_good))
    if proof.others.since:
        # Only what the run itself changed is a fault; people go on working beside it.
        ours, others = len(proof.by_us), len(proof.changed_since)
        again = len(proof.others.moved) - ours - others
        told = [f"{ours} changed by {_run(proof)}"] if ours else []
        told += [f"{others} changed since, not by it"] if others else []
        told += [f"{again} saved again as before"] if again else []
        untold = proof.others.untold
        told += [f"{untold} read otherwise since, so that nobody can tell"] if untold else []
        found.append(
            (
                "everything else",
                counted(proof.others.count, "other item"),
                ", ".join(told) or f"as before {_run(proof)}",
                False if ours else None if others or untold else True,
            )
        )
    return found


def _all_good(proof: Proof) -> str:
    theirs = f"; {len(proof.theirs)} handed over, and another by now" if proof.theirs else ""
    return f"{AS_PROMISED}{theirs}"


def off_words(one: Verified) -> str:
    """Of an item that was just brought, that it is not as promised, and where."""
    places = few([place_phrase(change.place) for change in one.differences], 3)
    return f"{readable(one.key)} is not as promised{f': something else stands at {places}' if places else ''}"


def _off_blocks(one: Verified, off: Off, dangling: int) -> list[Block]:
    who = f", by {off.who} {off.at}" if off.who else ""
    title = f"{readable(one.key)}: {off.cause.value}{who}"
    # Nothing is left to compare: a list of everything that is missing in it says no more.
    if not one.is_there:
        return [Lines([Cell("It is no longer there.", "bad")], title)]
    blocks: list[Block] = [titled(changes_grid(one.differences, "promised", "found", False, named=one.named), title)]
    if dangling:
        blocks.append(Lines([Cell(f"{counted(dangling, 'reference leads', 'references lead')} nowhere.", "bad")]))
    return blocks


def _difference_json(change: FieldChange) -> dict[str, object]:
    sides = {"promised": change.target, "found": change.package}
    return {"place": change.place, **{name: value for name, value in sides.items() if value is not MISSING}}


def _lost_lines(proof: Proof) -> list[str]:
    return [f"{readable(key)} uses {words}" for key, parts in proof.lost.items() for words in parts]


def _beside(proof: Proof) -> list[tuple[str, list[str]]]:
    """What else there is to say: titles with their lines."""
    broken = [f"{one.name} ({one.native}): {one.reason}" for one in proof.broken]
    # By run: whoever asks why a promise no longer counts wants to see which import took it over.
    since: dict[str, list[str]] = {}
    for key, run in proof.later.items():
        since.setdefault(run, []).append(readable(key))
    later = [f"{counted(len(keys), 'item')} brought again by {run}: {few(keys)}" for run, keys in since.items()]
    later += [f"{counted(proof.gone, 'item')} retired, withdrawn or let go"] if proof.gone else []
    lines: dict[bool, list[str]] = {False: [], True: []}
    for one in proof.others.moved:
        who = f", by {one.who} {one.at}" if one.who else ""
        lines[one.is_ours].append(f"{one.title}: {one.what}{who}")
    shut: dict[bool, list[str]] = {False: [], True: []}
    for key, words in proof.pages.closed.items():
        shut[key in proof.pages.missing].append(f"{readable(key)}: {words}")
    theirs = [
        f"{readable(k)}: {o.cause.value}{f', by {o.who} {o.at}' if o.who else ''}" for k, o in proof.theirs.items()
    ]
    return [
        ("Handed over, and another by now", theirs),
        ("Parts that are used and are not there", _lost_lines(proof)),
        ("Connections that do not answer", broken),
        ("No longer this run's promise" if proof.run else "Brought since by another package", later),
        (f"Changed by {_run(proof)}, though it was not to touch it", lines[True]),
        ("Changed there since, beside it", lines[False]),
        ("At another address than people were told", [readable(key) for key in proof.moved]),
        ("A connection of the environment's own by now", [readable(key) for key in proof.turned]),
        ("Links that lead to no page, though others of their kind do", shut[True]),
        ("Links that don't open for whoever isn't signed in", shut[False]),
    ]


def proof_json(proof: Proof) -> dict[str, object]:
    """One look for machines."""
    all_off = {**proof.off, **proof.theirs}
    return {
        "package": proof.package,
        "version": proof.version,
        "environment": proof.environment,
        "run": proof.run.name if proof.run else None,
        "as_promised": proof.is_whole,
        "absent": proof.absent,
        "only_edited": proof.only_edited,
        "items": [
            {
                "key": one.key,
                "as_promised": one.is_as_promised,
                "there": one.is_there,
                "cause": all_off[one.key].cause.value if one.key in all_off else "",
                "changed_by": all_off[one.key].who if one.key in all_off else "",
                "changed_at": all_off[one.key].at if one.key in all_off else "",
                "handed_over": one.key in proof.theirs,
                "differences": [_difference_json(change) for change in one.differences],
            }
            for one in proof.items
        ],
        "references": {"places": proof.references, "dangling": dict(proof.dangling)}
        | ({"lost": {key: list(parts) for key, parts in proof.lost.items()}} if proof.lost else {}),
        "connections": [vars(one) for one in proof.connections],
        "links": {"told": proof.links, "moved": list(proof.moved)} | _pages_json(proof.pages),
        "later": dict(proof.later),
        "no_longer_promised": proof.gone,
        "since": proof.others.since,
        "elsewhere": [vars(one) for one in proof.others.moved] if proof.others.since else None,
    }


def _pages_json(pages: Pages) -> dict[str, object]:
    if not pages.tried:
        return {}
    return {"tried": pages.tried, "closed": dict(pages.closed), "missing": sorted(pages.missing)}


def proofs_markdown(proofs: Sequence[Proof]) -> str:
    """Looks as Markdown: a section for each, a table of respects, then what is off."""
    lines = []
    for proof in proofs:
        # The same words as on the screen: two ways of saying it would be read as two results.
        verdict = of_proof(proof)
        lines += [f"# {md(_named(proof))}", "", md(verdict.words), ""]
        if not proof.absent:
            lines += ["| looked at | of | found |", "|---|---|---|"]
            lines += [f"| {md(name)} | {md(of)} | {md(said)} |" for name, of, said, _ in respects(proof)]
        if proof.off:
            lines += ["", "| item | why | by | when |", "|---|---|---|---|"]
            lines += [
                f"| {md(readable(key))} | {off.cause.value} | {md(off.who)} | {md(off.at)} |"
                for key, off in proof.off.items()
            ]
        for title, rows in _beside(proof):
            if rows:
                lines += ["", f"## {title}", "", *(f"- {md(row)}" for row in rows)]
        lines.append("")
    return "\n".join(lines)


def proofs_junit(proofs: Sequence[Proof]) -> str:
    """Looks as JUnit XML: a suite for each target, a case for each item, connection and respect."""
    root = ET.Element("testsuites", name="amphora verify")
    for proof in proofs:
        cases = _cases(proof)
        failed = sum(bool(words) for _, _, words, _ in cases)
        skipped = sum(is_untold for *_, is_untold in cases)
        name = _xml(_named(proof))
        # As the common schema has them; a fault is never an `error`, which would be one of ours.
        numbers = {"tests": len(cases), "failures": failed, "errors": 0, "skipped": skipped}
        suite = ET.SubElement(root, "testsuite", {"name": name, **{key: str(n) for key, n in numbers.items()}})
        for group, title, words, is_untold in cases:
            attributes = {"classname": _xml(f"{proof.environment}.{group}"), "name": _xml(title)}
            case = ET.SubElement(suite, "testcase", attributes)
            if words:
                ET.SubElement(case, "failure", message=_xml(words), type="not as promised").text = _xml(words)
            elif is_untold:
                ET.SubElement(case, "skipped", message="it can't be tried from here")
    # For people who open the file; programs read it either way.
    ET.indent(root)
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{ET.tostring(root, encoding="unicode")}\n'


def _cases(proof: Proof) -> list[tuple[str, str, str, bool]]:
    """Group, name, what is off (empty where nothing is), and whether nobody can tell."""
    found = [("package", proof.package, proof.absent, False)] if proof.absent else []
    for one in proof.items:
        off = proof.off.get(one.key)
        places = few([change.place for change in one.differences], 8)
        words = [off.cause.value, f"by {off.who}" if off.who else "", f"at {places}" if places else ""] if off else []
        found.append(("items", one.key, " ".join(filter(None, words)), False))
    found += [
        ("references", key, f"uses {few(parts)}, which is not there", False) for key, parts in proof.lost.items()
    ]
    found += [("links", key, proof.pages.closed[key], False) for key in sorted(proof.pages.missing)]
    for connection in proof.connections:
        said = (connection.reason or "it does not answer") if connection.is_working is False else ""
        found.append(("connections", connection.name, said, connection.is_working is None))
    if proof.others.since:
        said = few([f"{one.title}: {one.what}" for one in proof.by_us], 8)
        found.append(("elsewhere", "nothing else was changed by the run", said, False))
    return found


def _run(proof: Proof) -> str:
    """Since which run it was looked: whoever asked for that one knows its name."""
    return "the run" if proof.run else proof.others.since


def _named(proof: Proof) -> str:
    return f"{proof.package} {proof.version} in {proof.environment}".replace("  ", " ")


def _xml(text: str) -> str:
    """Text in which only characters stand that XML 1.0 allows (section 2.2): a title may hold any."""
    return _NOT_IN_XML.sub("?", visible(text))
