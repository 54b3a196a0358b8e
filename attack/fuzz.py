"""Bytes at random for whatever reads what others made: `python -m attack.fuzz -max_total_time=600`. What a
package raises is told in our own words, whatever is in it; anything else is a crash, and kept. Needs atheris, which
is no part of the tests' own set-up: `pip install -e '.[fuzz]'`.
"""

from __future__ import annotations

import contextlib
import sys
import tempfile
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["amphora.files", "amphora.core"]):
    from amphora.core.form.kinds import parse_sheet
    from amphora.core.values.errors import AmphoraError
    from amphora.files.archive import read_archive
    from amphora.files.bag import parse_manifest
    from amphora.files.package import contents_of, read_package
    from amphora.files.rows import rows_of

from attack.packages import LISTING, ROOT, honest, mended, zipped

FOLDER = Path(tempfile.mkdtemp(prefix="fuzz-"))
MEMBERS = honest(FOLDER)
NAMES = sorted(MEMBERS)
WHOLE = zipped(FOLDER / "whole.amphora", mended(MEMBERS)).read_bytes()


def tried(data: bytes) -> None:
    """One input: which way, which member, where, and with what."""
    if len(data) < 4:
        return
    way, which, where, rest = data[0] % 6, data[1], int.from_bytes(data[2:4], "little"), data[4:]
    name = NAMES[which % len(NAMES)]
    raw = MEMBERS[name]
    at = where % (len(raw) + 1)
    spliced = raw[:at] + rest + raw[at + len(rest) * (which & 1) :]
    path = FOLDER / "tried.amphora"
    with contextlib.suppress(AmphoraError):
        if way == 0:
            at = where % len(WHOLE)
            path.write_bytes(WHOLE[:at] + rest + WHOLE[at + len(rest) :])
            read_archive(path)
            read_package(path)
        elif way == 1:
            read_package(zipped(path, mended({**MEMBERS, name: spliced})))
        elif way == 2:
            files = {
                one.removeprefix(ROOT): content for one, content in {**MEMBERS, LISTING: rest or spliced}.items()
            }
            contents_of(files)
        elif way == 3:
            files = {one.removeprefix(ROOT): content for one, content in {**MEMBERS, name: spliced}.items()}
            contents_of(files, is_edited=bool(which & 2))
        elif way == 4:
            parse_sheet(rest.decode("utf-8", "replace"))
            parse_manifest(rest, "manifest")
        else:
            list(rows_of(rest))


if __name__ == "__main__":
    atheris.Setup(sys.argv, tried)
    atheris.Fuzz()
