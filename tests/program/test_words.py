"""Words that can be trusted: what is promised on pages and in last lines holds, and names mean the same everywhere."""

from __future__ import annotations

import json
import re
import shlex
import shutil
import tomllib
import zipfile
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from ruamel.yaml import YAML

from amphora.cli.chapters import CHAPTERS
from amphora.core.values.errors import UsageFault
from amphora.core.values.moments import moment
from amphora.files.workspace import _ABOUT, _ENVIRONMENT, _SELECTION, _TOP
from tests.conftest import Done, Program, run_program
from tests.told import STORIES

ROOT = Path(__file__).parents[2]
NOW = "2026-04-10T08:30:00Z"


def next_of(done: Done) -> str:
    """The last line that says what to do next."""
    lines = [line for line in (done.out + done.err).splitlines() if line.startswith("Next: ")]
    return lines[-1].removeprefix("Next: ") if lines else ""


def test_what_was_typed_elsewhere_is_typed_there_again(halcyon: Path) -> None:
    place = ("--workspace", halcyon.name)
    words = ["export", "grove-dev", "Weigh slip", "--as", "slip"]
    for code in (0, 0, 1, 3, 0):
        done = run_program(halcyon.parent, *words, *([] if "--workspace" in words else place))
        assert done.code == code, (words, done)
        [last] = [line for line in (done.out + done.err).splitlines() if line.startswith("Next: amphora ")]
        words = shlex.split(last)[2:]
        assert words[-2:] == [*place], last
    assert words[0] == "history"


def test_from_an_empty_folder_the_last_lines_lead_to_a_first_crossing(tmp_path: Path) -> None:
    done = run_program(tmp_path)
    assert next_of(done) == "amphora init"
    done = run_program(tmp_path, "init")
    assert "amphora practice new ." in done.out
    done, typed = run_program(tmp_path, "practice", "new", "."), []
    for _ in range(18):
        line = next_of(done)
        # Advice in words may stand before it, up to a colon.
        command = line[line.index("amphora ") :]
        assert not re.search(r"\b[A-Z]{3,}\b|…", command), f"{command} has to be filled in"
        typed.append(command)
        done = run_program(tmp_path, *shlex.split(command)[1:])
        assert done.code in (0, 1, 3), (command, done.out, done.err)
        if command.startswith("amphora verify"):
            break
    assert done.verdict.startswith("grove-test is as promised: all ")
    assert len(typed) <= 14, typed


@pytest.mark.xdist_group("demo")
def test_every_last_line_of_the_demo_can_be_pasted(demo: tuple[Path, Done], tmp_path: Path) -> None:
    grove, done = demo
    folder = shutil.copytree(grove, tmp_path / "grove")
    scenes, blocks, pasted = [scene.shown for chapter in CHAPTERS for scene in chapter.scenes], [""], []
    for line in done.out.splitlines():
        # What `carry` prints looks the same, so only the command that comes next begins another.
        if len(blocks) <= len(scenes) and line == f"$ {scenes[len(blocks) - 1]}":
            blocks.append("")
        blocks[-1] += line + "\n"
    assert len(blocks) == len(scenes) + 1
    for played in blocks[1:]:
        line = next_of(Done(0, played, ""))
        assert line or "practice trouble" in played.splitlines()[0], played
        command = line[line.index("amphora ") :] if "amphora " in line else ""
        # What has to be filled in says so, in capitals or by dots.
        if command and not re.search(r"\b[A-Z]{4,}\b|…", command):
            pasted.append(command)
    assert len(set(pasted)) > 40
    for command in dict.fromkeys(pasted):
        for words in command.split(" && "):
            told = run_program(folder, *shlex.split(words)[1:])
            # By now some of it is done, or waits for somebody; but all of it is a command.
            assert told.code in (0, 1, 3, 5), (command, told.out, told.err)


def test_options_before_a_command_count_for_it(amphora: Program, halcyon: Path, tmp_path: Path) -> None:
    before = run_program(tmp_path, "--workspace", halcyon, "env", "list")
    assert (before.code, "grove-live" in before.out) == (0, True)
    assert amphora("-h").out == amphora("--help").out


MOMENTS = [
    ("2026-04-01", "2026-04-01T00:00:00Z"),
    ("2026-04-01T10:00:00+02:00", "2026-04-01T08:00:00Z"),
    ("2026-04-01 10:00", "2026-04-01T10:00:00Z"),
    ("today", "2026-04-10T00:00:00Z"),
    ("Yesterday", "2026-04-09T00:00:00Z"),
    ("3 days", "2026-04-07T08:30:00Z"),
    ("2 weeks ago", "2026-03-27T08:30:00Z"),
    ("1 hour", "2026-04-10T07:30:00Z"),
    ("90 minutes", "2026-04-10T07:00:00Z"),
    ("99999 years", "0001-01-01T00:00:00Z"),
]


@pytest.mark.parametrize(("said", "meant"), MOMENTS)
def test_moments_are_understood(said: str, meant: str) -> None:
    assert moment(said, NOW, "--since") == meant


@pytest.mark.parametrize("said", ["", "lately", "3", "days", "2026-13-01", "-3 days"])
def test_what_is_no_moment_is_refused(said: str) -> None:
    with pytest.raises(UsageFault, match="--since"):
        moment(said, NOW, "--since")


def documented() -> dict[str, set[str]]:
    """The members of each command's document, as the page names them."""
    text = (ROOT / "docs" / "json.md").read_text(encoding="utf-8")
    rows = dict(re.findall(r"^\| `([^`]+)` \| (.*) \|$", text, re.M))
    found = {name: set(re.findall(r"`(\w+)`", cells)) for name, cells in rows.items()}
    # Where it says "as `compare`", it is that one's, too.
    return {name: mine.union(*(found[one] for one in mine & found.keys())) for name, mine in found.items()}


def told_in_stories() -> dict[str, set[str]]:
    """The members of the documents that stand in the stories, by what the documents say they are of."""
    found: dict[str, set[str]] = {}
    for path in STORIES.glob("*.txt"):
        text = path.read_text(encoding="utf-8")
        for begun in re.finditer(r"^\{", text, re.M):
            document, _ = json.JSONDecoder().raw_decode(text, begun.start())
            if "command" in document:
                found.setdefault(document["command"], set()).update(document)
    return found


def test_each_member_of_a_document_is_told(amphora: Program, tmp_path: Path) -> None:
    pages, always = documented(), {"amphora_output", "command", "verdict", "next"}
    told = told_in_stories()
    assert len(told) > 20
    lines = "check --rules|export grove-dev 'Weigh slip' --as slips|map slips grove-test --accept|keys new petra|keys list"
    lines += "|map slips grove-test --texts|to-folder slips f|practice trouble grove-dev.practice|practice new again|"
    for line in lines.split("|"):
        done = amphora(*shlex.split(line), "--json", XDG_CONFIG_HOME=str(tmp_path / "home"))
        told.setdefault(done.json["command"], set()).update(done.json)
    untold = {name: mine - always - pages[name] for name, mine in told.items() if mine - always - pages[name]}
    assert not untold


def schema(name: str) -> Any:
    return json.loads((ROOT / "src" / "amphora" / "schemas" / f"{name}.schema.json").read_text(encoding="utf-8"))


@pytest.mark.xdist_group("demo")
def test_schemas_say_what_the_program_reads_and_writes(demo: tuple[Path, Done]) -> None:
    table = schema("amphora")["properties"]
    assert set(table) == _TOP
    assert set(table["amphora"]["properties"]) == set(_ABOUT)
    assert set(table["environments"]["additionalProperties"]["properties"]) == _ENVIRONMENT
    assert set(table["selections"]["additionalProperties"]["properties"]) == set(_SELECTION)
    (grove, _), yaml = demo, YAML(typ="safe")
    found = {"amphora": [tomllib.loads((grove / "amphora.toml").read_text(encoding="utf-8"))]}
    found["crosswalk"] = [yaml.load(grove / "crosswalk.yaml")]
    found["docket"] = [yaml.load(path) for path in grove.glob("*.docket.yaml")]
    found["packing-list"] = [
        json.loads(package.read(next(n for n in package.namelist() if n.endswith("packing-list.json"))))
        for path in (grove / "packages").glob("*.amphora")
        for package in [zipfile.ZipFile(path)]
    ]
    for name, documents in found.items():
        assert documents
        for document in documents:
            jsonschema.Draft202012Validator(schema(name)).validate(json.loads(json.dumps(document, default=str)))
    # Editors are told by the first line.
    for path, begin in (("amphora.toml", "#:schema "), ("crosswalk.yaml", "# yaml-language-server: $schema=")):
        first = (grove / path).read_text(encoding="utf-8").splitlines()[0]
        assert first.startswith(begin)
        assert (grove / first.removeprefix(begin)).is_file()
    assert set(schema("docket")["properties"]) >= set(found["docket"][0])


def test_every_word_of_the_vocabulary_has_a_line_and_pages_lead_somewhere() -> None:
    text = (ROOT / "docs" / "words.md").read_text(encoding="utf-8")
    words = re.findall(r"^\| ([^|]+) \| [^|]+ \|$", text, re.M)[1:]
    assert words == sorted(words)
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text(encoding="utf-8")):
            assert (page.parent / target).exists(), (page.name, target)
