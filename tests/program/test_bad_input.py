"""Bad input through the real program: each says what, where and what next, and loses nothing."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from amphora.practice.platform import Platform
from tests.conftest import Done, Program


@pytest.fixture
def packed(amphora: Program, halcyon: Path) -> Path:
    """A good package in the workspace."""
    done = amphora("export", "grove-dev", "Harvest Intake", "--as", "olive-intake")
    assert done.code == 0, done.err
    return halcyon / "packages" / "olive-intake-1.0.0.amphora"


def told(done: Done, code: int, *words: str) -> None:
    """It ended with this code, said these words, and closed with what to do next."""
    assert done.code == code, done.out + done.err
    for word in words:
        assert word in done.err, done.err
    assert "Traceback" not in done.err
    assert done.err.rstrip().splitlines()[-1].startswith("Next: ")


def _truncated(good: bytes) -> bytes:
    return good[: len(good) // 2]


def _changed(good: bytes) -> bytes:
    middle = len(good) // 3
    return good[:middle] + bytes([good[middle] ^ 0xFF]) + good[middle + 1 :]


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda good: b"just some text", "is not a package"),
        (_truncated, "is cut short or damaged"),
        (_changed, "olive-intake"),
        (lambda good: b"", "is not a package"),
    ],
)
def test_files_that_are_no_good_package(
    amphora: Program, packed: Path, spoil: Callable[[bytes], bytes], words: str
) -> None:
    packed.write_bytes(spoil(packed.read_bytes()))
    for command in (("peek",), ("check",), ("import", "--yes")):
        done = amphora(command[0], "olive-intake", *(["grove-live"] if command[0] != "peek" else []), *command[1:])
        told(done, 7, words)
    assert len(amphora("survey", "grove-live", "--json").json["items"]) == 1


def test_a_wrong_digest_and_a_member_outside_are_refused(amphora: Program, packed: Path, halcyon: Path) -> None:
    bad = halcyon / "bad.amphora"
    with zipfile.ZipFile(packed) as archive, zipfile.ZipFile(bad, "w") as edited:
        for name in archive.namelist():
            raw = archive.read(name)
            edited.writestr(name, raw.replace(b"Harvest", b"harvest") if name.endswith("packing-list.json") else raw)
    told(amphora("peek", "bad.amphora"), 7, "packing-list.json is not what was packed", "SHA-256")
    shutil.copy(packed, bad)
    with zipfile.ZipFile(bad, "a") as archive:
        archive.writestr("olive-intake-1.0.0/../../outside.txt", "x")
    told(amphora("peek", "bad.amphora"), 7, "outside the package's folder", "outside.txt")
    assert not (halcyon.parent / "outside.txt").exists()


def test_an_ambiguous_title_lists_what_it_can_mean(amphora: Program, halcyon: Path) -> None:
    amphora("env", "list")
    from amphora.practice.platform import Platform

    platform = Platform(halcyon / "grove-dev.practice", "ines@halcyon.example", lambda: "2026-05-01T00:00:00Z")
    platform.create("theme", "other", "olive", "Olive", {}, None, "t")
    platform.close()
    told(amphora("survey", "grove-dev", "Olive"), 2, "can mean 2 items", "theme:house/olive", "theme:other/olive")


def test_outside_a_workspace(tmp_path: Path, packed: Path) -> None:
    from tests.conftest import run_program

    told(run_program(tmp_path.parent, "env", "list"), 2, "no workspace", "amphora init")
    shutil.copy(packed, tmp_path / "p.amphora")
    peeked = run_program(tmp_path, "peek", "p.amphora")
    assert (peeked.code, "It is not signed.\n" in peeked.out) == (0, True)
    told(run_program(tmp_path, "compare", "p.amphora", "grove-live"), 2, "no workspace", "amphora init")
    # A broken one is no reason to go on as if there were none.
    (tmp_path / "amphora.toml").write_text("x = [", encoding="utf-8")
    for words in (("peek", "p.amphora"), ("check", "p.amphora"), ("check", "--rules")):
        told(run_program(tmp_path, *words), 2, "is not TOML")


def test_a_target_that_is_not_there_is_told_as_try_later(amphora: Program, packed: Path, halcyon: Path) -> None:
    assert amphora("env", "add", "far", "nodered+http://127.0.0.1:9", "--role", "live").code == 0
    for command in ("check", "compare", "import"):
        told(amphora(command, "olive-intake", "far"), 75, "can't be reached")
    (halcyon / "grove-live.practice").unlink()
    told(amphora("survey", "grove-live"), 75, "There is no practice environment")


@pytest.mark.parametrize(
    ("file", "text", "said"),
    [
        ("amphora.toml", "[environments.a\n", ("amphora.toml is not TOML", "At line 1")),
        (
            "amphora.toml",
            '[environments.a]\nlocation = "practice:a"\nsign_in = "hunter2"\n',
            ("secret stands in clear", "line 3", 'sign_in = "env:'),
        ),
        ("crosswalk.yaml", "connections:\n  mill: [\n", ("crosswalk.yaml is not YAML", "line 3, column 1")),
        ("crosswalk.yaml", "conections: {}\n", ("no section of a crosswalk", "line 1, column 1")),
    ],
)
def test_broken_files_are_told_with_line_and_column(
    amphora: Program, packed: Path, halcyon: Path, file: str, text: str, said: tuple[str, ...]
) -> None:
    (halcyon / file).write_text(text, encoding="utf-8")
    done = amphora("map", "olive-intake", "grove-live")
    told(done, 2, *said)
    assert "hunter2" not in done.err
    assert (halcyon / file).read_text(encoding="utf-8") == text


def test_a_secret_in_clear_blocks_the_export_until_silenced(amphora: Program, halcyon: Path) -> None:
    from amphora.practice.platform import Platform

    platform = Platform(halcyon / "grove-dev.practice", "ines@halcyon.example", lambda: "2026-05-01T00:00:00Z")
    platform.create("theme", "house", "leaky", "Leaky", {"api_key": "k-9913-loud-crow"}, None, "t")
    platform.close()
    refused = amphora("export", "grove-dev", "Leaky", "--as", "leaky")
    told(refused, 3, "secret in clear", "theme:house/leaky at /api_key")
    assert "loud-crow" not in refused.err
    assert not list((halcyon / "packages").glob("*")) if (halcyon / "packages").exists() else True
    toml = halcyon / "amphora.toml"
    row = '[[silenced]]\nrule = "secret-in-clear"\nitem = "theme:house/leaky"\nplace = "/api_key"\nreason = "a test key"\n'
    before = toml.read_text()
    toml.write_text(before + row, encoding="utf-8")
    # The place alone is not enough: another secret may come to stand there.
    assert amphora("export", "grove-dev", "Leaky", "--as", "leaky").code == 3
    [mark] = set(re.findall(r"sha256:[0-9a-f]+", refused.err))
    toml.write_text(before + row + f'value = "{mark}"\n', encoding="utf-8")
    assert amphora("export", "grove-dev", "Leaky", "--as", "leaky").code == 0


def test_a_number_that_would_lose_digits_is_named_with_item_and_place(amphora: Program, halcyon: Path) -> None:
    with closing(Platform(halcyon / "grove-dev.practice", "ines@halcyon.example", lambda: "t")) as dev:
        dev.create("theme", "house", "big", "Big", {"sizes": [1, 2**53 + 1]}, None, "t")
    told(
        amphora("export", "grove-dev", "theme:house/big", "--as", "big"),
        3,
        "theme:house/big can't be packed",
        "2^53-1",
        "/sizes/1",
        "text there",
    )
    assert not list((halcyon / "packages").glob("big*"))


def test_whatever_is_written_is_for_its_owner_alone(amphora: Program, halcyon: Path) -> None:
    before = set(halcyon.rglob("*"))
    assert amphora("export", "grove-dev", "Press log", "--as", "logs", "--with", "records").code == 0
    assert amphora("to-folder", "logs", "laid-out").code == 0
    assert amphora("compare", "logs", "grove-live", "--docket", "d.yaml", "--html", "p.html").code == 1
    assert amphora("import", "logs", "grove-live", "--yes", "--with", "records").code == 0
    assert amphora("withdraw", "logs", "grove-live", "--retire-all").code == 0
    assert amphora("check", "logs", "grove-live", "--sarif", "s.sarif").code == 0
    made = [path for path in halcyon.rglob("*") if path not in before]
    assert len(made) > 12
    modes = (
        {f"{path.stat().st_mode & 0o777:o}" for path in made if path.is_file()},
        {f"{path.stat().st_mode & 0o777:o}" for path in made if path.is_dir()},
    )
    assert modes == ({"600"}, {"700"})
    old = os.umask(0o377)
    try:
        assert amphora("export", "grove-dev", "Press lines", "--as", "lines", "--out", "lines.amphora").code == 0
    finally:
        os.umask(old)
    assert (halcyon / "lines.amphora").stat().st_mode & 0o777 == 0o400


def test_a_secret_that_the_import_enters_is_not_left_to_enter(amphora: Program, halcyon: Path) -> None:
    crosswalk = halcyon / "crosswalk.yaml"
    text = crosswalk.read_text()
    assert amphora("export", "grove-dev", "Weigh ticket", "--as", "ticket").code == 0
    text = crosswalk.read_text()
    crosswalk.write_text(text + 'secrets:\n  weigh-ticket-webhook-token: {grove-live: "env:HOOK"}\n')
    without = amphora("import", "ticket", "grove-live", "--preview", "--json")
    with_it = amphora("import", "ticket", "grove-live", "--preview", "--json", HOOK="zq-7-kd93\n")
    assert (without.code, with_it.code) == (0, 0)
    done = amphora("import", "ticket", "grove-live", "--yes", HOOK="zq-7-kd93\n")
    assert (done.code, "Enter secret" in done.out, "zq-7" in done.out + done.err) == (0, False, False)
    with closing(Platform(halcyon / "grove-live.practice", "keeper@halcyon.example", lambda: "t")) as live:
        [flow] = [item for item in live.everything() if item.title == "Weigh ticket"]
    assert flow.newest["webhook"]["token"] == "zq-7-kd93"
    for literal in ("heron7x", "env:", "?heron7x", 4711):
        crosswalk.write_text(
            text + f"secrets:\n  weigh-ticket-webhook-token: {{grove-live: {json.dumps(literal)}}}\n"
        )
        refused = amphora("check", "ticket", "grove-live")
        told(refused, 2, "a secret stands in clear under secrets", "line", "env:NAME")
        assert "heron7x" not in refused.err


def test_what_is_no_file_of_its_kind_is_told_as_that(amphora: Program, halcyon: Path) -> None:
    (halcyon / "grove-live.practice").write_bytes(b"no database at all")
    told(amphora("survey", "grove-live"), 75, "can't be read", "comes back from a backup")
    told(amphora("sign", "/dev/null", "--key", "ines"), 2, "There is no package '/dev/null'")


def test_an_error_that_nobody_reads_keeps_its_code(halcyon: Path) -> None:
    words = [sys.executable, "-m", "amphora", "survey", "grove-dev", "Nothing like it", "--json"]
    reader, writer = os.pipe()
    os.close(reader)
    done = subprocess.run(words, cwd=halcyon, stdout=writer, stderr=subprocess.PIPE, text=True)
    os.close(writer)
    assert (done.returncode, "Traceback" in done.stderr) == (2, False), done.stderr
