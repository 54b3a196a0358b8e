"""Docket files: whatever a reviewer writes into one is honoured, or refused with its line; nothing is passed over."""

from __future__ import annotations

import codecs
import random
import re
import shutil
from contextlib import closing
from pathlib import Path

import pytest

from amphora.core.plan.arrivals import Arrival
from amphora.core.plan.decisions import LEAVE, Decisions, ItemDecision
from amphora.core.plan.docket import Custody, IfItFails, Parting
from amphora.engine.docket import prepare
from amphora.engine.gate import ImportRequest
from amphora.engine.imports import prepare_from_docket
from amphora.engine.refresh import refresh_docket
from amphora.engine.session import Session
from amphora.files.docket_file import CHOICES, document_of, write_docket
from amphora.files.package import read_package
from amphora.files.workspace import read_workspace
from tests.conftest import Program
from tests.program.test_deciding import edit

NOTE = "      /steps/share/note:\n        changed_by: both, differently\n"
OPEN = "        choice: '?'\n"
CHECK = "  flow:intake/bruised-fruit-check:\n"
TICKET = "  flow:intake/weigh-ticket:\n"
ANSWERED = (OPEN, "        choice: package\n")


@pytest.fixture(scope="module")
def _made() -> dict[str, Path]:
    return {}


@pytest.fixture
def clash(amphora: Program, halcyon: Path, _made: dict[str, Path], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A docket with one clash, one change, one local edit and one dropped item; made once and copied."""
    if "at" not in _made:
        assert amphora("export", "grove-dev", "Harvest Intake", "Weigh slip", "Olive", "--as", "oi").code == 0
        assert amphora("export", "grove-dev", "Welcome to the co-operative", "Harvest Intake", "--as", "oi").code == 0
        amphora("map", "oi", "grove-live", "--accept", "--set", "office=office@halcyon.example")
        assert amphora("import", "oi", "grove-live", "--yes").code == 0
        edit(amphora, "grove-dev", "Bruised fruit check", '/steps/0/note="dev"', '/starts_on/event="changed"')
        edit(amphora, "grove-live", "Bruised fruit check", '/steps/0/note="frost"')
        edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=2")
        assert amphora("export", "grove-dev", "Harvest Intake", "--as", "oi").code == 0
        assert amphora("compare", "oi", "grove-live", "--docket", "d.yaml").code == 3
        _made["at"] = tmp_path_factory.mktemp("kept") / "made"
        shutil.copytree(halcyon, _made["at"])
    shutil.rmtree(halcyon)
    shutil.copytree(_made["at"], halcyon)
    return halcyon / "d.yaml"


def changed(path: Path, *edits: tuple[str, str]) -> str:
    text = path.read_text(encoding="utf-8")
    for old, new in edits:
        assert old in text, old
        text = text.replace(old, new, 1)
    path.write_text(text, encoding="utf-8")
    return text


REFUSED: list[tuple[list[tuple[str, str]], str]] = [
    ([(OPEN, "        choice: mine\n")], "is no choice"),
    ([(OPEN, "        choice: {value: 2026-11-27}\n")], "quotation marks"),
    ([(OPEN, "        choice: {value: .nan}\n")], "no number"),
    ([(OPEN, "        choice: {value: .inf}\n")], "no number"),
    ([(OPEN, "        choice: {value: 9007199254740993}\n")], "2^53"),
    ([(OPEN, "        choice: {value: 7}\n")], "is a number, and text stands there"),
    ([(OPEN, "        choice: {value: [a]}\n")], "is a list"),
    ([(OPEN, "        choice: {value: true}\n")], "is yes or no"),
    ([(OPEN, "        choice: {value: 'amphora:secret:x'}\n")], "nobody can choose"),
    ([(OPEN, "        choice: {value: 'a ${amphora:secret:x} b'}\n")], "nobody can choose"),
    ([(OPEN, "        choice: {value: 'amphora:unbound:x-1'}\n")], "nobody can choose"),
    ([(OPEN, "        choice: {value: 'amphora:connection:nowhere'}\n")], "stands for nothing"),
    ([(OPEN, "        choice: {values: x}\n")], "is no choice"),
    ([ANSWERED, ("custody: package", "custody: mine")], "custody is package or target"),
    ([ANSWERED, ("if_it_fails: put-back", "if_it_fails: hope")], "put-back or keep"),
    ([ANSWERED, ("docket: 1", "docket: 2")], "format 2"),
    ([ANSWERED, ("docket: 1", "docket: 1\napproved: yes")], "Nothing is known of 'approved'"),
    ([ANSWERED, ("fingerprint:", "fingerprnt:")], "Perhaps fingerprint"),
    ([ANSWERED, ("setting:weigh-ticket-batch: 40", "setting:weigh-ticket-batch: 41")], "crosswalk"),
    ([ANSWERED, ("  setting:weigh-ticket-batch: 40\n", "")], "crosswalk"),
    ([ANSWERED, (TICKET + "    action: leave", TICKET + "    action: update")], "follows from the choices"),
    ([ANSWERED, (CHECK + "    action: update", CHECK + "    action: retire")], "follows from the choices"),
    ([ANSWERED, (CHECK + "    action: update", CHECK + "    action: leave")], "follows from the choices"),
    ([ANSWERED, (CHECK + "    action: update\n", CHECK)], "follows from the choices"),
    ([ANSWERED, ("    reason: changed in oi", "    reason: agreed with oi")], "`reason`"),
    (
        [ANSWERED, (CHECK, "  flow:mill/press-batch:\n    action: create\n    reason: x\n" + CHECK)],
        "Nothing is known",
    ),
    (
        [ANSWERED, ("  table:growers/groves:\n    action: leave\n    reason: the same\n", "")],
        "its line was deleted",
    ),
    ([ANSWERED, (CHECK, CHECK + "    titel: X\n")], "Nothing is known of 'titel'"),
    ([ANSWERED, (NOTE, NOTE + "        note: x\n")], "Nothing is known of 'note'"),
    ([ANSWERED, (NOTE, "      /steps/share/nte:\n        changed_by: both, differently\n")], "Nothing is known"),
    ([ANSWERED, ("        package: dev", "        package: live")], "can't be changed here"),
    ([ANSWERED, ("        target: frost", "        target: sun")], "can't be changed here"),
    ([ANSWERED, ("no_longer_packed:", "no_longer_packd:")], "Perhaps no_longer_packed"),
    ([ANSWERED, ("    rows: 0\n    choice: stay", "    rows: 9\n    choice: stay")], "can't be changed here"),
    ([ANSWERED, ("    choice: stay", "    choice: remove")], "stay, retire or let-go"),
    ([ANSWERED, ("    rows: 0\n    choice: stay", "    choice: stay")], "a number of rows"),
    (
        [ANSWERED, ("  table:growers/groves:\n    action: leave\n", "  table:growers/groves:\n")],
        "follows from the choices",
    ),
    ([ANSWERED, ("  table:growers/groves:\n    action: leave\n", "  table:growers/groves: 7\n")], ""),
    (
        [
            ANSWERED,
            (
                "no_longer_packed:\n",
                "no_longer_packed:\n  flow:x/y:\n    title: Y\n    rows: 0\n    choice: retire\n",
            ),
        ],
        "no item called",
    ),
    ([ANSWERED, ("  - Enter secret weigh", "  - tell the crew: weigh")], "a list of texts"),
    ([ANSWERED, ("  - Enter secret weigh", "  - Tell weigh")], "can't be edited"),
    ([ANSWERED, ("without: []", "without: [everything]")], "--without takes"),
    ([ANSWERED, ("package:\n  name: oi", "package:\n  name: [oi]")], ""),
    ([(OPEN, "        choice: package\n        choice: target\n")], "not YAML"),
    ([ANSWERED, ("items:\n", "items: nothing\nother:\n")], "Nothing is known of 'other'"),
    ([ANSWERED, ("        changed_by: target\n", "        changed_by: package\n")], "can't be changed here"),
]


def test_what_nobody_would_honour_is_refused_with_its_line(amphora: Program, clash: Path) -> None:
    before = amphora("survey", "grove-live", "--json").json["items"]
    whole = clash.read_text(encoding="utf-8")
    for edits, words in REFUSED:
        clash.write_text(whole, encoding="utf-8")
        changed(clash, *edits)
        # Whoever only looks at it is told, or shown what stands there.
        assert amphora("peek", "d.yaml").code in (0, 2), edits
        done = amphora("import", "d.yaml", "--yes")
        assert done.code in (2, 3), (edits, done.out, done.err)
        assert words in done.err, edits
        if words:
            assert re.search(r"line \d+", done.err), done.err
    assert amphora("survey", "grove-live", "--json").json["items"] == before


@pytest.mark.parametrize(
    ("edits", "note", "event", "copies", "is_welcome_there"),
    [
        ([ANSWERED], "dev", "changed", 2, True),
        ([(OPEN, "        choice: target\n")], "frost", "changed", 2, True),
        ([(OPEN, "        choice: last-delivered\n")], None, "changed", 2, True),
        ([(OPEN, "        choice: {value: both agree}\n")], "both agree", "changed", 2, True),
        ([ANSWERED, ("    choice: stay", "    choice: retire")], "dev", "changed", 2, False),
        ([ANSWERED, ("    choice: stay", "    choice: let-go")], "dev", "changed", 2, True),
        (
            [ANSWERED, ("        package: changed\n", "        package: changed\n        choice: target\n")],
            "dev",
            "written",
            2,
            True,
        ),
        (
            [ANSWERED, ("        target: 2\n", "        target: 2\n        choice: last-delivered\n")],
            "dev",
            "changed",
            None,
            True,
        ),
        ([(CHECK, CHECK + "    choice: package\n")], "dev", "changed", 2, True),
        ([(CHECK, CHECK + "    choice: target\n")], "frost", "written", 2, True),
        ([(CHECK, CHECK + "    choice: leave\n")], "frost", "written", 2, True),
        ([(CHECK, CHECK + "    choice: last-delivered\n")], None, "written", 2, True),
        ([ANSWERED, (TICKET, TICKET + "    choice: package\n")], "dev", "changed", None, True),
        ([ANSWERED, ("custody: package", "custody: target")], "dev", "changed", 2, True),
    ],
)
def test_what_can_be_honoured_is_carried_out_to_the_letter(
    amphora: Program,
    clash: Path,
    edits: list[tuple[str, str]],
    note: str | None,
    event: str,
    copies: int | None,
    is_welcome_there: bool,
) -> None:
    changed(clash, *edits)
    clash.rename(clash.with_name("what is decided.txt"))
    done = amphora("import", "what is decided.txt", "--yes")
    assert done.code == 0, done.err
    assert amphora("export", "grove-live", "Bruised fruit check", "Weigh ticket", "--as", "now").code == 0
    check = amphora("peek", "now", "Bruised fruit check", "--json").json["form"]
    ticket = amphora("peek", "now", "Weigh ticket", "--json").json["form"]
    assert check["steps"][0].get("note") == note
    assert check["starts_on"]["event"] == event
    assert ticket["steps"][1].get("copies") == copies
    keys = {row["key"] for row in amphora("survey", "grove-live", "--json").json["items"]}
    assert ("letter-template:office/welcome" in keys) is is_welcome_there
    assert amphora("verify", "last").code == 0


def test_a_docket_is_for_one_target_one_ledger_and_one_moment(amphora: Program, clash: Path) -> None:
    changed(clash, ANSWERED)
    other = amphora("import", "d.yaml", "grove-test", "--yes")
    assert (other.code, "is for grove-live, not for grove-test" in other.err) == (2, True)
    shown = amphora("import", "d.yaml", "grove-live", "--preview")
    assert (shown.code, shown.out.splitlines()[-1]) == (0, "Next: amphora import d.yaml")
    edit(amphora, "grove-live", "Weigh ticket", "/steps/1/copies=3")
    stale = amphora("import", "d.yaml", "--yes")
    assert (stale.code, "amphora compare --refresh d.yaml" in stale.err) == (3, True)
    fresh = amphora("compare", "--refresh", "d.yaml")
    assert (fresh.code, "1 decision kept" in fresh.verdict) == (1, True)
    assert fresh.out.splitlines()[-1] == "Next: amphora import d.yaml"
    (clash.parent / "ledger.sqlite").rename(clash.parent / "elsewhere")
    lost = amphora("import", "d.yaml", "--yes")
    assert (lost.code, "the ledger is another one" in lost.err) == (3, True)


def test_what_is_chosen_is_kept_or_refused(amphora: Program, clash: Path) -> None:
    loose = amphora("compare", "oi", "grove-live", "--choose", "Bruised fruit check=package")
    assert (loose.code, "--docket FILE" in loose.err) == (2, True)
    kept = amphora("compare", "oi", "grove-live", "--choose", "Bruised fruit check=package", "--docket", "e.yaml")
    assert (kept.code, kept.out.splitlines()[-1]) == (1, "Next: amphora import e.yaml")
    never = amphora("export", "grove-dev", "Olive", "--as", "house")
    assert never.code == 0
    (clash.parent / "ledger.sqlite").unlink()
    asked = amphora("compare", "house", "grove-live", "--choose", "Olive=last-delivered", "--docket", "h.yaml")
    assert (asked.code, "was never delivered" in asked.err) == (2, True)


def test_whatever_is_chosen_stands_in_the_file_and_comes_back_from_it(amphora: Program, clash: Path) -> None:
    draft = ("Bruised fruit check", "--draft", "--set", "/steps/0/note=draft")
    assert amphora("practice", "edit", "grove-live.practice", *draft).code == 0
    edit(amphora, "grove-live", "Weigh slip", "title=Slip there")
    edit(amphora, "grove-dev", "Weigh slip", "title=Slip here", "/subject=B")
    edit(amphora, "grove-dev", "Weigh ticket", "/starts_on/event=weighed")
    assert amphora("export", "oi").code == 0
    path, drawn = clash.parent / "drawn.yaml", random.Random(11)
    contents = read_package(clash.parent / "packages" / "oi-2.1.0.amphora")

    with closing(Session(read_workspace(clash.parent))) as session:
        plain = prepare(session, contents, "grove-live").docket
        asked = {a.key: [c.place for c in a.comparison.changes] if a.comparison else [] for a in plain.actions}
        assert sum("state:draft" in places for places in asked.values()) == 1
        delivered = {key for key in asked if session.ledger.last_deliveries(plain.target_uid, [key])}
        for _ in range(25):
            items = {}
            for key, places in asked.items():
                whole = drawn.choice([*CHOICES, LEAVE]) if drawn.random() < 0.25 else ""
                whole = whole if whole != "last-delivered" or key in delivered else ""
                fields = {
                    place: drawn.choice(CHOICES) for place in places if whole != LEAVE and drawn.random() < 0.35
                }
                items[key] = ItemDecision(whole, fields)
            some = drawn.sample(sorted(asked), 3)
            said = Decisions(
                items,
                {one.key: drawn.choice(list(Parting)).value for one in plain.retirements if drawn.random() < 0.5},
                custody=drawn.choice([None, *Custody]),
                without=drawn.choice([(), ("access",), ("attachments",)]),
                if_it_fails=drawn.choice(list(IfItFails)),
                arrivals={
                    key: Arrival(drawn.choice(["", "Called"]), drawn.choice(["", "north"])) for key in some[:2]
                },
                pause_after={some[2]: "seen"} if drawn.random() < 0.2 else {},
                file=str(path),
            )
            made = prepare(session, contents, "grove-live", said).docket
            write_docket(path, made)
            read = prepare_from_docket(session, path, ImportRequest(Decisions())).docket
            assert (document_of(read), read.steps) == (document_of(made), made.steps), said
            assert document_of(refresh_docket(session, path).prepared.docket) == document_of(made), said


def test_what_an_editor_puts_before_and_at_the_ends_of_lines_is_no_part_of_a_file(
    amphora: Program, halcyon: Path
) -> None:
    def saved(*names: str) -> None:
        for path in map(halcyon.joinpath, names):
            path.write_bytes(codecs.BOM_UTF8 + path.read_bytes().replace(b"\n", b"\r\n"))

    amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    assert amphora("map", "olive-intake", "grove-live", "--accept").code in (0, 1)
    saved("amphora.toml", "crosswalk.yaml")
    assert amphora("compare", "olive-intake", "grove-live", "--docket", "d.yaml").code == 1
    text = (halcyon / "d.yaml").read_text("utf-8")
    # Without the words at its top: what it is stands in the first line then.
    (halcyon / "d.yaml").write_text(text[text.index("docket:") :], "utf-8")
    saved("d.yaml")
    done = amphora("import", "d.yaml", "--yes")
    assert done.code == 0, done.err
    assert amphora("to-folder", "olive-intake", "f").code == 0
    saved("f/data/packing-list.json", "f/data/items/flow/intake/weigh-ticket.json", "f/data/kinds/flow.toml")
    assert amphora("from-folder", "f", "--out", "again.amphora").code == 0
    assert amphora("compare", "olive-intake", "again.amphora").verdict.endswith("are the same.")
    assert amphora("env", "rename", "grove-south", "south").code == 0
