"""The grounds as fixtures."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from amphora.practice.halcyon import KEEPER, PLACES, fill
from amphora.practice.platform import Platform
from tests.contract.grounds import Ground
from tests.nodered.seeds import BROKER_NODE, SOURCE, TARGET, deploy


def nodered_ground(folder: Path, urls: tuple[str, str]) -> Ground:
    """A workspace over the two runtimes, reset to their seeds."""
    one, two = urls
    deploy(one, SOURCE)
    deploy(two, TARGET, "made-up-token")
    (folder / "amphora.toml").write_text(
        f'[environments.one]\nlocation = "nodered+{one}"\nrole = "build"\n'
        f'[environments.two]\nlocation = "nodered+{two}"\nrole = "live"\nsign_in = "env:TWO_TOKEN"\n',
        encoding="utf-8",
    )
    (folder / "crosswalk.yaml").write_text(
        "connections:\n  Mill broker: {one: Mill broker, two: Live broker}\n"
        "settings:\n  Weigh ticket-env-REGION: {one: north, two: south}\n",
        encoding="utf-8",
    )
    return Ground(
        folder,
        "one",
        "two",
        "Weigh ticket",
        "flow:Press",
        "Weigh ticket-env-REGION",
        lambda: deploy(two, [BROKER_NODE], "made-up-token"),
    )


def _emptied(path: Path) -> None:
    """The live environment with the source's connections and people, and without any item."""
    path.unlink()
    dev = PLACES["grove-dev"]
    accounts = {KEEPER: "keeper"}
    Platform.found(path, "practice-empty", "grove-live", "north", "https://copy.halcyon.example", accounts)
    fill(path, dev, [])


@pytest.fixture(params=["practice", "nodered"])
def ground(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Ground]:
    """Each adapter's ground in turn."""
    if request.param == "practice":
        folder: Path = request.getfixturevalue("halcyon")
        made = Ground(
            folder,
            "grove-dev",
            "grove-live",
            "Harvest Intake",
            "flow:intake/bruised-fruit-check",
            "bruised-fruit-check-limit",
            lambda: _emptied(folder / "grove-live.practice"),
        )
    else:
        monkeypatch.setenv("TWO_TOKEN", "made-up-token")
        made = nodered_ground(tmp_path, request.getfixturevalue("runtimes"))
    yield made
    made.close()
