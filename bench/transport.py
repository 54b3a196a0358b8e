"""Measures the core work of a transport against the bare cost of the same bytes, in one run.

The bare cost is that of the fastest ordinary libraries: read each item, parse it, sort its members, SHA-256 it, write
all of it into one ZIP; and, for reading, take that ZIP apart again. Ratios are what counts; seconds depend on the
machine. Every phase runs in a process of its own, so that its peak memory is its own. `make bench` prints the table
and writes docs/benchmarks.md; `python bench/transport.py PHASE FOLDER SIZE` runs one phase.
"""

from __future__ import annotations

import hashlib
import json
import platform
import random
import resource
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import orjson

from amphora.core.form.bindings import Bindings, IdStyle
from amphora.core.form.portable import to_portable
from amphora.core.needs.needs import needs_of
from amphora.core.values.graph import in_order
from amphora.core.values.model import Contents, Folded, Item, States
from amphora.core.values.pace import uncollected
from amphora.files.package import read_package, write_package
from amphora.practice.items import ID_PATTERN, JOINER
from amphora.practice.sheets import practice_sheets

REFERENCES = 5
LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"
WORDS = ["olive", "press", "grove", "batch", "ticket", "yield", "lab", "frost", "north", "south"]
HERE = Path(__file__)


def native_id(number: int) -> str:
    """The id of the nth item."""
    return "fl-" + "".join(LETTERS[(number >> 5 * place) % 32] for place in range(8))


def corpus(size: int, has_layout: bool = False) -> Iterator[tuple[str, bytes]]:
    """Native definitions of about 4 kB with five references each, as JSON with their ids; with positions on a
    canvas if wanted, which packages keep in a file of their own beside each item."""
    dice = random.Random(7)
    for number in range(size):
        steps = [
            {
                "id": f"s{step}",
                "do": "flow",
                "flow": native_id(dice.randrange(max(1, number))),
                **({"x": dice.randrange(900), "y": dice.randrange(900)} if has_layout else {}),
                "script": "\n".join(" ".join(dice.choices(WORDS, k=9)) for _ in range(11)),
                "options": {word: dice.choice([dice.randrange(1000), dice.randrange(1000) + 0.25]) for word in WORDS},
            }
            for step in range(REFERENCES)
        ]
        yield native_id(number), orjson.dumps({"steps": steps, "limit": number % 100, "run_count": number})


def stored(folder: Path) -> Iterator[tuple[str, bytes]]:
    """The corpus as it lies on the disk: what both sides read."""
    with (folder / "corpus.jsonl").open("rb") as file:
        for line in file:
            yield line[:11].decode(), line[12:]


def bare_write(folder: Path, size: int) -> None:
    """Read, parse, sort, SHA-256, one ZIP."""
    with zipfile.ZipFile(folder / "bare.zip", "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name, raw in stored(folder):
            canonical = orjson.dumps(orjson.loads(raw), option=orjson.OPT_SORT_KEYS)
            hashlib.sha256(canonical).hexdigest()
            archive.writestr(f"{name}.json", canonical)


def bare_read(folder: Path, size: int) -> None:
    """The ZIP back: read, SHA-256, parse."""
    with zipfile.ZipFile(folder / "bare.zip") as archive:
        for name in archive.namelist():
            raw = archive.read(name)
            hashlib.sha256(raw).hexdigest()
            orjson.loads(raw)


def bare_parse(folder: Path, size: int) -> None:
    """Read, parse, sort, SHA-256."""
    for _, raw in stored(folder):
        hashlib.sha256(orjson.dumps(orjson.loads(raw), option=orjson.OPT_SORT_KEYS)).hexdigest()


def export(folder: Path, size: int) -> None:
    """The core work of an export: portable forms, order, package."""
    sheet = practice_sheets()["flow"]
    names = Bindings(IdStyle(ID_PATTERN, JOINER, mark="-"))
    keys = {native_id(number): f"flow:bench/item-{number}" for number in range(size)}
    for id_, key in keys.items():
        names.bind(key, id_)
    items = {}
    with uncollected():  # as the engine does
        for id_, raw in stored(folder):
            key = keys[id_]
            portable = to_portable(orjson.loads(raw), sheet, names, key=key, binds_new=True)
            states = States(id_, "bench", True, True)
            items[key] = Item(key, 1, portable.form, states, portable.layout, id_).folded()
        in_order({key: item.uses() for key, item in items.items()})
        contents = Contents(
            "bench", "1.0.0", "bench", "bench", items, tuple(needs_of(items)), "", {"flow": sheet.source}
        )
        write_package(contents, folder / "bench.amphora")


def read(folder: Path, size: int) -> None:
    """Reading and verifying the package."""
    assert len(read_package(folder / "bench.amphora").items) == size


def checked(folder: Path, size: int) -> float:
    """All rules over the package, against an index of a target that holds as many items of its own."""
    from amphora.core.checks import CheckContext, check
    from amphora.core.checks.context import Planned, TargetIndex
    from amphora.core.values.model import Listed

    contents = read_package(folder / "bench.amphora")
    sheets = practice_sheets()
    may = frozenset({"read", "write", "publish", "switch"})
    rows = {
        f"flow:there/item-{n}": Listed(f"fl-t{n:07}", "flow", ("there", f"item-{n}"), States("x", "there", True), "1")
        for n in range(size)
    }
    planned = tuple(Planned(key, "create", may) for key in contents.items)
    target = TargetIndex(
        name="there",
        account="keeper",
        rows=rows,
        sheets=sheets,
        features=None,
        permissions=may,
        mapped=(),
        region="north",
        planned=planned,
    )
    context = CheckContext(contents, sheets, target, source_urls=("https://bench.example",))
    return timed(lambda: check(context))


def compared(folder: Path, size: int) -> float:
    """Three-way comparison of every item, of which one in twenty differs; all sides at hand as the engine has
    them: package and base as bytes, the target in portable form."""
    from amphora.core.merge.compare import Base, compare_item

    contents = read_package(folder / "bench.amphora")
    sheet = practice_sheets()["flow"]
    names = Bindings(IdStyle(ID_PATTERN, JOINER, mark="-"))
    triples = []
    for number, item in enumerate(contents.items.values()):
        form = item.form
        if number % 20 == 0:
            form["steps"][1]["script"] += "\nolive"
        target = Item(item.key, 1, form, item.states, item.layout, item.native_id)
        triples.append((item, target, Base(Folded(item.form_bytes), item.states, {})))

    def work() -> None:
        found = [compare_item(package, target, base, sheet, names) for package, target, base in triples]
        assert sum(bool(one.changes) for one in found) == size // 20

    return timed(work)


def surveyed(folder: Path, size: int) -> float:
    """A survey, with all its counts, of a practice environment that holds the corpus; without filling it and
    without opening the ledger."""
    from amphora.engine.session import Session
    from amphora.engine.survey import survey
    from amphora.environments.practice import PracticeEnvironment
    from amphora.files.workspace import EnvironmentEntry, Workspace
    from amphora.practice.platform import Platform

    path = folder / "bench.practice"
    Platform.found(path, "bench", "bench", "", "https://bench.example", {"keeper@halcyon.example": "keeper"})
    platform_ = Platform(path, "keeper@halcyon.example", lambda: "2026-01-01T00:00:00Z")
    with closing(PracticeEnvironment(platform_)) as there:
        rows = (
            (id_, "flow", "bench", id_, id_, raw.decode(), None, 1, 1, "2026-01-01T00:00:00Z", "keeper", None)
            for id_, raw in stored(folder)
        )
        there.platform._db.execute("begin")
        there.platform._db.executemany(f"insert into items values ({','.join('?' * 12)})", rows)
        there.platform._db.execute("commit")
    entry = EnvironmentEntry("bench", f"practice:{path}", user="keeper@halcyon.example")
    with closing(Session(Workspace(folder, {"bench": entry}))) as session:
        session.ledger.uid()
        return timed(lambda: survey(session, "bench"))


PHASES: dict[str, Callable[[Path, int], float | None]] = {
    "bare-write": bare_write,
    "bare-read": bare_read,
    "bare-parse": bare_parse,
    "export": export,
    "read": read,
    "check": checked,
    "compare": compared,
    "survey": surveyed,
}


def timed(work: Callable[[], Any]) -> float:
    """Seconds that the work takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def phase(name: str, folder: Path, size: int) -> tuple[float, float]:
    """Seconds and peak memory in MB of one phase, in a process of its own; the best of three small ones."""
    runs = []
    for _ in range(3 if size <= 10_000 and name != "survey" else 1):
        command = [sys.executable, str(HERE), name, str(folder), str(size)]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        runs.append(tuple(json.loads(done.stdout)))
    return min(runs)


def corpus_of(size: int, folder: Path, has_layout: bool = False) -> Path:
    """A corpus on the disk."""
    with (folder / "corpus.jsonl").open("wb") as file:
        for id_, raw in corpus(size, has_layout):
            file.write(id_.encode() + b" " + raw + b"\n")
    return folder


def rows_of(size: int, has_layout: bool = False) -> dict[str, tuple[float, float]]:
    """All phases over one corpus."""
    with tempfile.TemporaryDirectory() as name:
        folder = corpus_of(size, Path(name), has_layout)
        wanted = [phase_ for phase_ in PHASES if phase_ != "survey" or size <= 10_000]
        return {phase_: phase(phase_, folder, size) for phase_ in wanted}


def streaming(what: str, amount: int) -> str:
    """Peak memory in MB of writing and reading a package with an attachment or with rows, in its own process."""
    script = HERE.with_name("streaming.py")
    done = subprocess.run(
        [sys.executable, str(script), what, str(amount)], capture_output=True, text=True, check=True
    )
    return done.stdout.strip()


def carrying(count: int) -> dict[str, float]:
    """Seconds of a run over its bare calls, in a process of its own: bare, prepare, import, calls, undo."""
    command = [sys.executable, str(HERE.with_name("runs.py")), str(count)]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    return dict(json.loads(done.stdout))


def runs_table() -> list[str]:
    """The cost of carrying a docket out, and of taking it back, over the bare calls to the platform."""
    lines = [
        "Letters carried into a practice environment, journalled, verified and taken back; the bare cost is that of",
        "the same calls with nothing around them, half of them before, half after. Both keep every step on the disk",
        "before the next, which is most of what they take; a temporary folder in memory would show the processor's",
        "share alone. `own calls` are all that the import made, looks and the last reading included.",
        "",
        "| letters | bare s | import s | ratio | import over its own calls | undo s |",
        "|---|---|---|---|---|---|",
    ]
    for count in (1_000, 1_000, 1_000, 2_000, 10_000):
        took = carrying(count)
        whole = took["prepare"] + took["import"]
        ratios = f"{whole / took['bare']:.2f} | {took['import'] / took['calls']:.2f}"
        lines.append(f"| {count:,} | {took['bare']:.2f} | {whole:.2f} | {ratios} | {took['undo']:.2f} |")
    return lines


def report() -> str:
    """Measures everything and returns the report."""
    small, laid_out, large = rows_of(10_000), rows_of(10_000, True), rows_of(100_000)

    def row(what: str, rows: dict[str, tuple[float, float]], mine: str, bare: str) -> str:
        (took, memory), (cost, _) = rows[mine], rows[bare]
        return f"| {what} | {took:.2f} | {cost:.2f} ({bare}) | {took / cost:.1f} | {memory:,.0f} |"

    lines = [
        "# Benchmarks",
        "",
        f"Items of about 4 kB with {REFERENCES} references each; Python {platform.python_version()},"
        f" {platform.machine()}; made by `make bench`. Seconds vary with the machine, ratios less. The bare cost is",
        "that of read, parse, sort, SHA-256 and one ZIP (`bare-write`), of taking that ZIP apart (`bare-read`), or",
        "of read, parse, sort and SHA-256 alone (`bare-parse`), with orjson, hashlib and zipfile, in the same run.",
        "",
        "| work | seconds | bare cost | ratio | peak MB |",
        "|---|---|---|---|---|",
        row("export 10,000 items: portable form, order, package", small, "export", "bare-write"),
        row("read and verify the package", small, "read", "bare-write"),
        row("the same against the ZIP alone", small, "read", "bare-read"),
        row("export, where every item has a layout", laid_out, "export", "bare-write"),
        row("read and verify, where every item has a layout", laid_out, "read", "bare-read"),
        row("check 10,000 items against 10,000, all rules", small, "check", "bare-read"),
        row("check 100,000 items against 100,000", large, "check", "bare-read"),
        row("compare 10,000 triples of which 5 % differ", small, "compare", "bare-parse"),
        row("compare 100,000 triples", large, "compare", "bare-parse"),
        row("export 100,000 items", large, "export", "bare-write"),
        row("read and verify the package", large, "read", "bare-write"),
        "",
        f"100,000 items take {large['export'][0] / small['export'][0]:.1f} times as long to export as 10,000, and"
        f" {large['read'][0] / small['read'][0]:.1f} times as long to read.",
        "",
        f"A survey of 10,000 items in a practice environment, with all counts: {small['survey'][0]:.2f} s.",
        "",
        f"Peak memory of writing and reading a package with one attachment of 1 MiB: {streaming('bytes', 2**20)} MB;"
        f" of 1 GiB: {streaming('bytes', 2**30)} MB; with 1,000 rows of a table: {streaming('rows', 1000)} MB;"
        f" with 10,000,000 rows: {streaming('rows', 10_000_000)} MB.",
        "",
        *runs_table(),
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    if len(sys.argv) > 1:
        _, name, place, count = sys.argv
        own = {"survey": surveyed, "check": checked, "compare": compared}
        if name in own:
            seconds = own[name](Path(place), int(count))
        else:
            seconds = timed(lambda: PHASES[name](Path(place), int(count)))
        print(json.dumps([seconds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000]))
    else:
        text = report()
        print(text)
        (HERE.parents[1] / "docs" / "benchmarks.md").write_text(text, encoding="utf-8")
