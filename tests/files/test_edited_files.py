"""The files that people edit: nothing of theirs is lost, and faults come with line and column."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from amphora.core.needs.crosswalk import Crosswalk, MapState, resolve
from amphora.core.values.errors import SheetFault, UsageFault
from amphora.core.values.model import Need, Supply
from amphora.files.crosswalk_file import Cell, csv_cells, csv_text, read_crosswalk, write_cells
from amphora.files.workspace import EnvironmentEntry, init_workspace, read_workspace
from amphora.files.workspace_writer import add_environment, move_environment

WRITTEN = """\
# ours
connections:
  mill-db:                      # do not touch
    grove-dev: mill-db-dev
    any: 'mill-db'              # wherever no other value stands
settings:
  limit: {grove-dev: 0.5, grove-live: "?0.8"}
  ticket: {grove-dev: "017", any: yes}
"""


def test_adding_rows_keeps_what_people_wrote(tmp_path: Path) -> None:
    path = tmp_path / "crosswalk.yaml"
    path.write_text(WRITTEN, encoding="utf-8")
    assert write_cells(path, [Cell("connections", "mill-db", "grove-dev", "mill-db-dev")]) == []
    assert path.read_text(encoding="utf-8") == WRITTEN
    write_cells(
        path,
        [
            Cell("connections", "new one", "grove-live", "?", "needed by x"),
            Cell("people", "desk", "any", "a@b.example"),
        ],
    )
    text = path.read_text(encoding="utf-8")
    assert text.startswith(WRITTEN[: WRITTEN.index("settings:")].rstrip())
    assert "# do not touch" in text
    assert 'grove-live: "?"' in text
    table = read_crosswalk(path)
    assert table.value("connection:new%20one", "grove-live") == "?"
    assert table.value("connection:mill-db", "elsewhere") == "mill-db"
    assert table.value("setting:ticket", "grove-dev") == "017"


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("connections:\n  a: {grove-dev: b\n", "line 3, column 1"),
        ("konnections:\n  a: {}\n", "line 1, column 1"),
        ("connections:\n  a: text\n", "line 2, column 3"),
        ("settings:\n  day:\n    grove-dev: 2026-01-01\n", "line 3, column 5"),
        ("connections:\n  a: {}\n  a: {}\n", "line 3, column 3"),
        # What the library itself fails at has no place.
        ("connections:\n? a:\n    b: c\n", None),
    ],
)
def test_a_broken_crosswalk_is_told_with_its_place(tmp_path: Path, text: str, place: str) -> None:
    path = tmp_path / "crosswalk.yaml"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(UsageFault) as caught:
        read_crosswalk(path)
    assert caught.value.place == place


@pytest.mark.parametrize(
    ("cell", "type_", "state", "native"),
    [
        ("mill-main", "database", MapState.MAPPED, "cn-1"),
        ("cn-2", "database", MapState.MAPPED, "cn-2"),
        ("?mill-main", "database", MapState.GUESSED, None),
        ("gone", "database", MapState.OPEN, None),
        (None, "feed", MapState.GUESSED, None),
        (None, "", MapState.OPEN, None),
    ],
)
def test_how_a_need_is_resolved(cell: str | None, type_: str, state: MapState, native: str | None) -> None:
    offers = [
        Supply("connection", "cn-1", "mill-main", "database"),
        Supply("connection", "cn-2", "office-x", "database"),
    ]
    offers.append(Supply("connection", "cn-3", "bridge", "feed"))
    table = Crosswalk({"connections": {"zz": {"here": cell}}} if cell else {})
    [mapped] = resolve([Need("connection:zz", ("flow:a",), type_)], table, "here", offers, {})
    assert (mapped.state, mapped.native) == (state, native)


def test_environments_are_added_and_comments_stay(tmp_path: Path) -> None:
    workspace = init_workspace(tmp_path)
    path = tmp_path / "amphora.toml"
    path.write_text(path.read_text() + "# mine\n", encoding="utf-8")
    entry = EnvironmentEntry("grove-live", "practice:x", "live", "north", sign_in="env:GROVE")
    assert add_environment(workspace, entry).environment("grove-live") == entry
    assert "# mine" in path.read_text()
    with pytest.raises(UsageFault, match="already"):
        add_environment(read_workspace(tmp_path), entry)


def test_no_environment_gets_the_name_of_a_group(tmp_path: Path) -> None:
    # The file could not be read by any command afterwards.
    workspace = add_environment(init_workspace(tmp_path), EnvironmentEntry("grove-live", "practice:x", "live"))
    path = tmp_path / "amphora.toml"
    path.write_text(path.read_text() + '[groups]\nlives = ["grove-live"]\n', encoding="utf-8")
    before, workspace = path.read_text(), read_workspace(tmp_path)
    with pytest.raises(UsageFault, match="a group 'lives' already"):
        add_environment(workspace, EnvironmentEntry("lives", "practice:y"))
    with pytest.raises(UsageFault, match="a group 'lives' already"):
        move_environment(workspace, "grove-live", "lives")
    with pytest.raises(UsageFault, match="is a group"):
        workspace.environment("lives")
    assert path.read_text() == before


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("[environments.a]\nlocation = practice", "line 2, column 12", "not TOML"),
        ('[environments.a]\nlocation = "practice:x"\nsign_in = "hunter2"', "line 3, column 1", "secret stands in clear"),
        ('[environments.a]\nlocation = "practice:x"\npassword = "hunter2"', "line 3, column 1", "secret stands in clear"),
        ('[environments.a]\nlocation = "nodered+http://u:hunter2@h"', "line 2, column 1", "secret stands in clear"),
        ('[environments.a]\nrole = "live"', "line 1, column 1", "no location"),
        ('[environments.a]\nlocation = "practice:x"\nrole = "prod"', "line 3, column 1", "build, test, live"),
        ("[enviroments.a]", "line 1, column 1", "not known"),
    ],
)  # fmt: skip
def test_a_broken_workspace_is_told_with_its_place(tmp_path: Path, text: str, place: str, words: str) -> None:
    (tmp_path / "amphora.toml").write_text(text, encoding="utf-8")
    with pytest.raises(UsageFault, match=words) as caught:
        read_workspace(tmp_path)
    assert caught.value.place == place
    assert "hunter2" not in caught.value.message


VALUES = st.one_of(
    st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), min_size=1, max_size=9).filter(
        lambda t: t == t.strip()
    ),
    st.integers(-(10**6), 10**6),
    st.booleans(),
    st.floats(-1e6, 1e6, allow_nan=False).map(lambda x: round(x, 3)),
)
ROWS = st.dictionaries(
    st.text("abc-=@é/", min_size=1, max_size=6),
    st.dictionaries(st.sampled_from(["dev", "live", "any", "made_from"]), VALUES, min_size=1),
    max_size=3,
)


@given(st.dictionaries(st.sampled_from(["connections", "settings", "people"]), ROWS))
def test_a_crosswalk_is_unchanged_by_a_spreadsheet(rows: Any) -> None:
    crosswalk = Crosswalk(rows)
    assert csv_cells(csv_text(crosswalk, ["dev", "live"]), crosswalk, "table.csv") == []


def test_a_table_of_any_system_is_read_and_what_is_none_has_its_line() -> None:
    crosswalk = Crosswalk({"settings": {"a": {"dev": 1}}})
    for end in ("\n", "\r\n", "\r"):
        assert csv_cells(f"section;name;dev{end}settings;a;2{end}", crosswalk, "t") == [
            Cell("settings", "a", "dev", 2)
        ]
    with pytest.raises(UsageFault, match="it is no CSV") as caught:
        csv_cells("section,name,dev\nsettings,a," + "x" * 200_000, crosswalk, "t")
    assert caught.value.place == "line 2"


@pytest.mark.parametrize("content", [b"\xff\xfe", b"kind = 1" + b"0" * 5000, b"a = " + b"[" * 5000])
def test_a_sheet_that_can_not_be_read_is_told_as_that(tmp_path: Path, content: bytes) -> None:
    init_workspace(tmp_path)
    (tmp_path / "kinds").mkdir()
    (tmp_path / "kinds" / "flow.toml").write_bytes(content)
    with pytest.raises(SheetFault, match=r"flow\.toml"):
        read_workspace(tmp_path).sheets  # noqa: B018
    (tmp_path / "amphora.toml").write_bytes(content)
    with pytest.raises(UsageFault, match=r"amphora\.toml is not TOML"):
        read_workspace(tmp_path)
