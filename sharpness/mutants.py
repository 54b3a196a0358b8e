"""Small changes that the tests have to notice: `python -m sharpness.mutants SEED[,SEED…] COUNT` samples operators,
constants, dropped lines, swapped branches and dropped keywords of core and engine, tries each in a copy of the
project, and prints the survivors. A mutant is tried by the tests that reach its lines, the quick ones first, and is
caught by the first one that goes red. With a third number only by so many seconds of the slow ones: then some
survivors would be caught by others, and a list of what is weak takes half an hour instead of half a day.
"""

from __future__ import annotations

import ast
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import accumulate
from math import inf
from pathlib import Path

from sharpness.reached import QUICK_S, Reached, reached_in

ROOT = Path(__file__).parents[1]

ROOMS = ("core", "engine")
PLACES = ("tests/core", "tests/files", "tests/faults", "tests/contract", "tests/program")
LEFT_OUT = ("nodered", "superset", "kills", "heavy", "attack", "hurts")
"""What takes minutes; and what only reads the code, so that it would be red for a mutant that nobody noticed."""
READING = "tests/core/test_errors.py"
PATIENCE = 4
GRACE_S = 30
"""A mutant with which the tests take this many times as long as without, and this much longer, has made a loop
without an end."""
SWAPPED: dict[type[ast.AST], type[ast.AST]] = {
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.And: ast.Or,
    ast.Or: ast.And,
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
}


@dataclass(frozen=True)
class Mutant:
    """One change: the file, the line, the source of the statement before and after."""

    path: Path
    line: int
    last: int
    old: str
    new: str
    text: str

    def __str__(self) -> str:
        before, after = (" ".join(text.split()) for text in (self.old, self.new))
        same = next((n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), 0)
        start = max(0, same - 60)
        before, after = (f"{'…' if start else ''}{text[start : start + 140]}" for text in (before, after))
        return f"{self.path.relative_to(ROOT / 'src')}:{self.line}\n    - {before}\n    + {after}"


def mutants_of(path: Path) -> Iterator[Mutant]:
    """Every small change of a module, each as a whole new source text."""
    text = path.read_text(encoding="utf-8")
    tree = ast.parse(text)
    lines = text.splitlines(keepends=True)
    for node in ast.walk(tree):
        if not isinstance(node, ast.FunctionDef):
            continue
        for statement in ast.walk(node):
            if isinstance(statement, ast.stmt) and statement is not node and not _is_dull(statement):
                for new in _changed(statement):
                    yield _mutant(path, lines, statement, new)


def _is_dull(statement: ast.stmt) -> bool:
    """Whether nobody could notice: docstrings, imports, definitions, passing on."""
    is_text = isinstance(statement, ast.Expr) and isinstance(statement.value, ast.Constant)
    return is_text or isinstance(statement, ast.Import | ast.ImportFrom | ast.FunctionDef | ast.ClassDef | ast.Pass)


def _changed(statement: ast.stmt) -> Iterator[ast.stmt]:
    simple = (ast.Expr, ast.Assign, ast.AugAssign, ast.Raise, ast.Continue, ast.Break)
    if isinstance(statement, simple):
        yield ast.Pass()
    if isinstance(statement, ast.If) and statement.orelse:
        yield ast.If(statement.test, statement.orelse, statement.body)
    count = sum(1 for _ in _spots(statement))
    for number in range(count):
        copy = ast.parse(ast.unparse(statement)).body[0]
        spots = list(_spots(copy))
        if number < len(spots):
            _change(*spots[number])
            yield ast.fix_missing_locations(copy)


def _spots(statement: ast.AST) -> Iterator[tuple[ast.AST, int]]:
    """The nodes of a statement's own expressions that can be changed, each with which of its parts."""
    waiting: list[ast.AST] = [statement]
    while waiting:
        node = waiting.pop(0)
        if isinstance(node, ast.Compare):
            yield from ((node, n) for n, op in enumerate(node.ops) if type(op) in SWAPPED)
        elif isinstance(node, ast.BoolOp | ast.BinOp) and type(node.op) in SWAPPED:
            yield node, 0
        elif isinstance(node, ast.Call) and node.keywords:
            yield from ((node, n) for n in range(len(node.keywords)) if node.keywords[n].arg)
        elif (
            (isinstance(node, ast.Constant) and isinstance(node.value, bool | int))
            or isinstance(node, ast.IfExp)
            or (isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not))
        ):
            yield node, 0
        waiting += [child for child in ast.iter_child_nodes(node) if not isinstance(child, ast.stmt)]


def _change(node: ast.AST, part: int) -> None:
    if isinstance(node, ast.Compare):
        node.ops[part] = SWAPPED[type(node.ops[part])]()  # type: ignore[call-overload]
    elif isinstance(node, ast.BoolOp | ast.BinOp):
        node.op = SWAPPED[type(node.op)]()  # type: ignore[assignment]
    elif isinstance(node, ast.Call):
        del node.keywords[part]
    elif isinstance(node, ast.Constant):
        node.value = (not node.value) if isinstance(node.value, bool) else node.value + 1  # type: ignore[operator]
    elif isinstance(node, ast.IfExp):
        node.body, node.orelse = node.orelse, node.body
    elif isinstance(node, ast.UnaryOp):
        node.op = ast.UAdd()
        node.operand = ast.Call(ast.Name("bool", ast.Load()), [node.operand], [])


def _mutant(path: Path, lines: list[str], old: ast.stmt, new: ast.stmt) -> Mutant:
    first, last = old.lineno - 1, old.end_lineno or old.lineno
    indent = lines[first][: len(lines[first]) - len(lines[first].lstrip())]
    source = "".join(f"{indent}{line}\n" for line in ast.unparse(new).splitlines())
    text = "".join([*lines[:first], source, *lines[last:]])
    # Of a compound statement only the head is changed; its body is run by fewer tests.
    reached = old.body[0].lineno - 1 if isinstance(old, ast.If | ast.For | ast.While | ast.With) else last
    return Mutant(path, old.lineno, max(reached, old.lineno), ast.unparse(old), ast.unparse(new), text)


def is_caught(mutant: Mutant, folder: Path, reached: Reached, most_s: float) -> bool:
    """Whether any test goes red for a mutant, tried in a copy of the project. A line that no test runs is not
    caught."""
    name = str(mutant.path.relative_to(ROOT))
    tests = reached.of(name, mutant.line, mutant.last)
    # All the quick ones, and at least one, however long it takes.
    slow = [test for test in tests if reached.seconds.get(test, 0) > QUICK_S]
    ends = accumulate(reached.seconds.get(test, 0) for test in slow)
    left_out = slow[max(1, sum(end <= most_s for end in ends)) :]
    tests = [test for test in tests if test not in left_out]
    if not tests:
        return False
    # Reads what it is about instead of running it.
    tests += [test for test in reached.seconds if test.startswith(READING) and test not in tests]
    target = folder / name
    kept = target.read_text(encoding="utf-8")
    target.write_text(mutant.text, encoding="utf-8")
    try:
        return is_red(folder, tests, GRACE_S + PATIENCE * sum(reached.seconds.get(test, 0) for test in tests))
    finally:
        target.write_text(kept, encoding="utf-8")


def is_red(folder: Path, tests: list[str], longest_s: float) -> bool:
    """Whether any of some tests goes red in a copy of the project."""
    (folder / "chosen").write_text("\n".join(tests), encoding="utf-8")
    words = ["-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "@chosen"]
    paths = {"PYTHONPATH": str(folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    running = subprocess.Popen(
        [sys.executable, *words],
        cwd=folder,
        env=os.environ | paths,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        start_new_session=True,
    )
    try:
        told, _ = running.communicate(timeout=longest_s)
    except subprocess.TimeoutExpired:
        # With all that it started: a program that is in a loop would go on for ever.
        os.killpg(running.pid, signal.SIGKILL)
        running.communicate()
        return True  # a loop without an end is noticed
    # 1 is a red test, 2 and 3 one that could not even be loaded, like what all of them load; anything else (nothing
    # found, wrong usage) would be a fault of this script, not a catch.
    is_loaded = b"ERROR collecting" not in told and b"while loading conftest" not in told
    if running.returncode not in (0, 1, 2, 3) and is_loaded:
        raise RuntimeError(told.decode()[-2000:])
    return running.returncode != 0


def survivors_of(mutants: list[Mutant], folder: Path, reached: Reached, most_s: float) -> int:
    """How many of some mutants survive; each is printed as soon as that is known, for a sample takes long."""
    left = 0
    for number, mutant in enumerate(mutants, 1):
        if not is_caught(mutant, folder, reached, most_s):
            left += 1
            print(f"{mutant}\n    survived, number {number} of {len(mutants)}", flush=True)
    return left


def copy_to(folder: Path) -> None:
    """Copies what tests need into a folder; the runtimes that were installed for them stay where they are."""
    left = shutil.ignore_patterns("node_modules", ".runtime", "__pycache__")
    for part in ("src", "tests", "attack", "sharpness", "bench", "docs"):
        shutil.copytree(ROOT / part, folder / part, ignore=left)
    for name in ("pyproject.toml", "README.md", "CHANGELOG.md"):
        shutil.copy(ROOT / name, folder)
    # Without this every test with a runtime would be red, and catch whatever it is given.
    for runtime in ("nodered/node_modules", "superset/.runtime"):
        (folder / "tests" / runtime).symlink_to(ROOT / "tests" / runtime)


def main(seeds: list[int], count: int, most_s: float = inf) -> None:
    """Tries a sample for each seed and prints what survived."""
    # What make was told is ours, and no seed of the tests that draw by one.
    os.environ.pop("SEED", None)
    modules = sorted(path for room in ROOMS for path in (ROOT / "src" / "amphora" / room).rglob("*.py"))
    every = [mutant for path in modules for mutant in mutants_of(path)]
    samples = {seed: random.Random(seed).sample(every, count) for seed in seeds}
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(2) as pool:
        folders = [Path(name) / str(number) for number in range(2)]
        for folder in folders:
            copy_to(folder)
        reached = reached_in(folders[0], ["-k", f"not ({' or '.join(LEFT_OUT)})", *PLACES])
        print(f"{len(reached.seconds)} tests, {sum(reached.seconds.values()):.0f} s", flush=True)
        for seed, sample in samples.items():
            halves = [sample[0::2], sample[1::2]]
            jobs = [
                pool.submit(survivors_of, half, folder, reached, most_s)
                for half, folder in zip(halves, folders, strict=True)
            ]
            left = sum(job.result() for job in jobs)
            print(f"{count - left} of {count} caught (of {len(every):,} possible ones; seed {seed}).", flush=True)


if __name__ == "__main__":
    main([int(word) for word in sys.argv[1].split(",")], int(sys.argv[2]), *map(float, sys.argv[3:]))
