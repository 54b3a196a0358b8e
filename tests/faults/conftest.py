"""The grounds on which faults are tried."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.contract.conftest import BOARDS, made_ground
from tests.contract.grounds import Ground


@pytest.fixture(params=["practice", "http", "nodered", "folder", "press", BOARDS])
def ground(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Ground]:
    """Each adapter's ground in turn."""
    made = made_ground(request, tmp_path, monkeypatch)
    yield made
    made.close()
