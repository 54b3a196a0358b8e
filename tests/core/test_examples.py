"""The worked examples in docstrings hold."""

from __future__ import annotations

import doctest
from importlib import import_module
from pathlib import Path

import pytest

import amphora

SOURCE = Path(amphora.__file__).parent
MODULES = [path for path in sorted(SOURCE.rglob("*.py")) if ">>> " in path.read_text(encoding="utf-8")]


@pytest.mark.parametrize("path", MODULES, ids=lambda path: path.stem)
def test_the_examples_of_a_module_hold(path: Path) -> None:
    name = ".".join(("amphora", *path.relative_to(SOURCE).with_suffix("").parts))
    tried = doctest.testmod(import_module(name), optionflags=doctest.NORMALIZE_WHITESPACE)
    assert (tried.failed, tried.attempted > 0) == (0, True)
