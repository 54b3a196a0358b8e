"""Measures the core work of a transport against the bare cost of the same bytes, in one run.

The bare cost: parse each item, serialise it with sorted keys, SHA-256 it, and write all of it into one ZIP with the
fastest ordinary libraries. Ratios are what counts; seconds depend on the machine. `make bench` prints the table and
writes docs/benchmarks.md. Run `python bench/transport.py 100000` for a larger corpus.
"""

from __future__ import annotations

import gc
import hashlib
import platform
import random
import resource
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import orjson

from amphora.core.bindings import Bindings, IdStyle
from amphora.core.graph import in_order
from amphora.core.kinds import KindSheet
from amphora.core.merge import differences
from amphora.core.model import Contents, Item, States
from amphora.core.portable import to_portable
from amphora.engine.session import Session
from amphora.engine.surveying import survey
from amphora.environments.practice import PracticeEnvironment
from amphora.files.package import read_package, write_package
from amphora.files.workspace import EnvironmentEntry, Workspace
from amphora.practice.platform import ID_PATTERN, JOINER, Platform
from amphora.practice.sheets import practice_sheets

REFERENCES = 5
LETTERS = "0123456789abcdefghjkmnpqrstvwxyz"


def native_id(number: int) -> str:
    """The id of the nth item."""
    return "fl-" + "".join(LETTERS[(number >> 5 * place) % 32] for place in range(8))


def corpus(size: int) -> dict[str, bytes]:
    """Native definitions of about 4 kB with five references each, as JSON by id."""
    dice = random.Random(7)
    words = ["olive", "press", "grove", "batch", "ticket", "yield", "lab", "frost", "north", "south"]
    result = {}
    for number in range(size):
        steps = [
            {
                "id": f"s{step}",
                "do": "flow",
                "flow": native_id(dice.randrange(max(1, number))),
                "x": dice.randrange(900),
                "y": dice.randrange(900),
                "script": "\n".join(" ".join(dice.choices(words, k=9)) for _ in range(11)),
                "options": {word: dice.choice([dice.randrange(1000), dice.randrange(1000) + 0.25]) for word in words},
            }
            for step in range(REFERENCES)
        ]
        result[native_id(number)] = orjson.dumps({"steps": steps, "limit": number % 100, "run_count": number})
    return result


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds and result."""
    start = time.perf_counter()
    result = work()
    return time.perf_counter() - start, result


def bare_write(native: dict[str, bytes], path: Path) -> None:
    """The bare cost of writing."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for name, raw in native.items():
            canonical = orjson.dumps(orjson.loads(raw), option=orjson.OPT_SORT_KEYS)
            hashlib.sha256(canonical).hexdigest()
            archive.writestr(f"{name}.json", canonical)


def bare_read(path: Path) -> None:
    """The bare cost of reading."""
    with zipfile.ZipFile(path) as archive:
        for name in archive.namelist():
            raw = archive.read(name)
            hashlib.sha256(raw).hexdigest()
            orjson.loads(raw)


def exported(native: dict[str, bytes], sheet: KindSheet, path: Path) -> Contents:
    """The core work of an export: portable forms, order, package."""
    names = Bindings(IdStyle(ID_PATTERN, JOINER))
    for id_ in native:
        names.bind(f"flow:bench/{id_}", id_)
    items = {}
    gc.disable()  # as the engine does while it gathers
    for id_, raw in native.items():
        key = f"flow:bench/{id_}"
        portable = to_portable(orjson.loads(raw), sheet, names, key=key, binds_new=True)
        items[key] = Item(key, 1, portable.form, States(id_, "bench", True, True), portable.layout, id_)
    gc.enable()
    in_order({key: item.uses() for key, item in items.items()})
    contents = Contents("bench", "1.0.0", "bench", "bench", items, (), "", {"flow": sheet.source})
    write_package(contents, path)
    return contents


def surveyed(native: dict[str, bytes], folder: Path) -> float:
    """Seconds for one survey of a practice environment that holds the corpus, with all its counts."""
    path = folder / "bench.practice"
    Platform.found(path, "bench", "bench", "", "https://bench.example", {"keeper@halcyon.example": "keeper"})
    with closing(
        PracticeEnvironment(Platform(path, "keeper@halcyon.example", lambda: "2026-01-01T00:00:00Z"))
    ) as there:
        rows = [
            (id_, "flow", "bench", id_, id_, raw.decode(), None, 1, 1, "2026-01-01T00:00:00Z", "keeper", None)
            for id_, raw in native.items()
        ]
        there.platform._db.execute("begin")
        there.platform._db.executemany(f"insert into items values ({','.join('?' * 12)})", rows)
        there.platform._db.execute("commit")
    entry = EnvironmentEntry("bench", f"practice:{path}", user="keeper@halcyon.example")
    with closing(Session(Workspace(folder, {"bench": entry}))) as session:
        seconds, rows = timed(lambda: survey(session, "bench"))
    assert len(rows) == len(native)
    return seconds


def main(size: int) -> str:
    """Measures and returns the report."""
    native = corpus(size)
    sheet = practice_sheets()["flow"]
    kilobytes = sum(map(len, native.values())) / size / 1000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_s, _ = timed(lambda: bare_write(native, folder / "bare.zip"))
        read_s, _ = timed(lambda: bare_read(folder / "bare.zip"))
        parse_s, _ = timed(lambda: [hashlib.sha256(orjson.dumps(orjson.loads(raw))) for raw in native.values()])
        export_s, contents = timed(lambda: exported(native, sheet, folder / "bench.amphora"))
        verify_s, read = timed(lambda: read_package(folder / "bench.amphora"))
        walk = sheet.places.walk({})
        compare_s, _ = timed(
            lambda: [differences(item.form, read.items[key].form, walk) for key, item in contents.items.items()]
        )
        survey_s = surveyed(native, folder)
    rows = [
        ("export: portable form, order, package", export_s, write_s, "bare write"),
        ("read and verify a package", verify_s, read_s, "bare read"),
        ("compare with itself, field by field", compare_s, parse_s, "bare parse and hash"),
    ]
    memory_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000
    lines = [
        "# Benchmarks",
        "",
        f"{size:,} items of {kilobytes:.1f} kB, {REFERENCES} references each; Python {platform.python_version()},"
        f" {platform.machine()}; made by `make bench`. Seconds vary with the machine, ratios less.",
        "",
        "| work | seconds | bare cost | ratio |",
        "|---|---|---|---|",
        *(f"| {what} | {took:.2f} | {bare:.2f} ({name}) | {took / bare:.1f} |" for what, took, bare, name in rows),
        f"| survey of a practice environment | {survey_s:.2f} | | |",
        "",
        f"Peak memory of the whole run, corpus included: {memory_mb:,.0f} MB.",
    ]
    return "\n".join(lines) + "\n"


def streaming(size_bytes: int) -> str:
    """Peak memory in MB of writing and reading a package with an attachment, in a process of its own."""
    script = Path(__file__).with_name("streaming.py")
    done = subprocess.run([sys.executable, str(script), str(size_bytes)], capture_output=True, text=True, check=True)
    return done.stdout.strip()


if __name__ == "__main__":
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    small, large = streaming(2**20), streaming(2**30)  # first: a child's peak counts what its parent held
    report = main(wanted)
    report += f"\nPeak memory with one attachment of 1 MiB: {small} MB; of 1 GiB: {large} MB.\n"
    print(report)
    if wanted == 10_000:
        (Path(__file__).parents[1] / "docs" / "benchmarks.md").write_text(report, encoding="utf-8")
