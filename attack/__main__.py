"""Tries the whole corpus: `python -m attack` prints, for each class, how much of it was refused or made
harmless, and what was not. The figures of the detector of secrets stand at the end.
"""

from __future__ import annotations

import sys
import tempfile
import tomllib
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from amphora.core.form.detector import hits_in, is_secret
from attack import Case, packages, places, secrets, servers, shown


def every() -> Iterator[Case]:
    """All cases."""
    for module in (packages, places, servers, shown, secrets):
        yield from module.cases()


def main() -> int:
    """Prints the figures; 1 if anything got through."""
    total, held = Counter[str](), Counter[str]()
    for case in every():
        with tempfile.TemporaryDirectory() as folder:
            wrong = case.attack(Path(folder))
        total[case.kind] += 1
        held[case.kind] += not wrong
        if wrong:
            print(f"got through: {case.kind}: {case.name}: {wrong}", flush=True)
    for kind, count in total.items():
        print(f"{kind:22} {held[kind]:4} of {count:4} refused or harmless")
    corpus = tomllib.loads(
        (Path(__file__).parents[1] / "tests" / "files" / "secrets.toml").read_text(encoding="utf-8")
    )
    # Found is what would be refused; of the harmless ones even a second look counts.
    found = sum(is_secret(name, value) for name, value in corpus["secret"])
    cried = sum(bool(hits_in(value, name)) for name, value in corpus["harmless"])
    print(f"{'secrets found':22} {found:4} of {len(corpus['secret']):4}")
    print(f"{'harmless ones taken':22} {cried:4} of {len(corpus['harmless']):4}")
    return int(held != total)


if __name__ == "__main__":
    sys.exit(main())
