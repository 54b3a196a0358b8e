"""Comparing, deciding, retiring, carrying back: through the real program."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import jsonpatch
import pytest
from hypothesis import example, given

from amphora.core.merge.patch import patch_of
from tests.conftest import Program
from tests.core.test_canon import JSON


def edit(amphora: Program, place: str, item: str, *values: str) -> None:
    words = [word for value in values for word in ("--set", value)]
    assert amphora("practice", "edit", f"{place}.practice", item, *words).code == 0


def form(amphora: Program, package: str, key: str) -> Any:
    return amphora("peek", package, key, "--json").json["form"]


@pytest.fixture
def there(amphora: Program, halcyon: Path) -> Path:
    """olive-intake 1.0.0 is in grove-live."""
    assert amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake").code == 0
    assert amphora("import", "olive-intake", "grove-live", "--yes").code == 0
    return halcyon


@given(JSON, JSON)
@example([0, {"a": [1]}], [0.0, {"a": [1.0]}])
def test_patches_give_the_other_side(left: Any, right: Any) -> None:
    left, right = {"x": left}, {"x": right}
    assert json.dumps(jsonpatch.apply_patch(left, patch_of(left, right)), sort_keys=True) == json.dumps(
        right, sort_keys=True
    )
