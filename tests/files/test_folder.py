"""Plain folders and git revisions: the same digest both ways, one-line diffs, hand edits validated."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from amphora.core.values.errors import PackageDamaged, UsageFault
from amphora.files.folder import read_folder, read_git, write_folder
from amphora.files.package import read_package, write_package
from tests.files.test_package import contents

ITEM = "data/items/flow/mill/Weigh=20ticket.json"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write_folder(contents(), tmp_path / "olive")
    return tmp_path / "olive"


def git(folder: Path, *words: str) -> str:
    command = ["git", "-C", str(folder), "-c", "user.name=t", "-c", "user.email=t@halcyon.example", *words]
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


def test_there_and_back_gives_the_same_digest(folder: Path, tmp_path: Path) -> None:
    digest = write_package(contents(), tmp_path / "a.amphora")
    read = read_folder(folder)
    assert read.package_digest == digest
    assert write_package(read, tmp_path / "b.amphora") == digest
    assert (tmp_path / "a.amphora").read_bytes() == (tmp_path / "b.amphora").read_bytes()
    assert (folder / ".gitattributes").read_text() == "* -text\n"
    assert not list(folder.rglob("*manifest*"))
    assert write_folder(contents(), folder) == 0


def test_a_one_field_change_is_a_one_line_diff_and_git_revisions_read(folder: Path, tmp_path: Path) -> None:
    git(tmp_path, "init", "-q")
    git(tmp_path, "add", ".")
    git(tmp_path, "commit", "-qm", "first")
    path = folder / ITEM
    path.write_text(path.read_text().replace('"n": 0', '"n": 77'), encoding="utf-8")
    assert git(tmp_path, "diff", "--numstat").split() == ["1", "1", f"olive/{ITEM}"]
    now, then = read_folder(folder), read_git(f"git:{tmp_path}@HEAD:olive")
    assert then.digest() == contents().digest()
    assert now.digest() != then.digest()
    assert now.items["flow:mill/Weigh%20ticket"].form["n"] == 77
    assert read_package(_packed(now, tmp_path)).digest() == now.digest()
    for bad in (f"git:{tmp_path}@nope:olive", f"git:{tmp_path}@HEAD:elsewhere", "git:nowhere", "git:/nowhere@HEAD:x"):
        with pytest.raises(UsageFault):
            read_git(bad)


def _packed(read: object, folder: Path) -> Path:
    from amphora.core.values.model import Contents

    assert isinstance(read, Contents)
    path = folder / f"{read.name}-{read.version}.amphora"
    write_package(read, path)
    return path


def test_laying_out_another_version_removes_what_left_and_nothing_else(folder: Path) -> None:
    (folder / "README.md").write_text("ours", encoding="utf-8")
    fewer = {key: item for key, item in contents().items.items() if "Weigh" not in key}
    assert write_folder(contents(items=fewer), folder) == 2
    assert not (folder / ITEM).exists()
    assert (folder / "README.md").read_text() == "ours"


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        (ITEM, '{\n  "n": 1,\n  "n": 2\n}', "stands twice"),
        (ITEM, '{\n  "n": 1,,\n}', "line 2, column 10"),
        (ITEM, None, "listed but not there"),
        ("data/items/flow/mill/extra.json", "{}", "belongs to no item"),
        ("data/packing-list.json", "{}", "no proper list"),
        ("data/kinds/flow.toml", "kind = 3", "kind sheet flow"),
    ],
)
def test_hand_edits_are_validated_with_file_and_line(folder: Path, name: str, text: str | None, said: str) -> None:
    if text is None:
        (folder / name).unlink()
    else:
        (folder / name).write_text(text, encoding="utf-8")
    with pytest.raises(PackageDamaged, match=said):
        read_folder(folder)


def test_a_folder_of_somebody_else_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "letter.txt").write_text("dear", encoding="utf-8")
    with pytest.raises(UsageFault, match="something else"):
        write_folder(contents(), tmp_path)
    with pytest.raises(PackageDamaged, match="holds no package"):
        read_folder(tmp_path)
