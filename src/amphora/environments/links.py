"""Addresses of items, opened as a browser would in which nobody has signed in.

What is sent holds nothing of ours: a page that asks who is there is there. Only the environment's own machine is
asked, for a link may lead anywhere, and nobody wants a check to knock at other people's doors.
"""

from __future__ import annotations

from collections.abc import Iterable
from http import HTTPStatus
from urllib.parse import urldefrag, urlsplit

MOST_PAGES = 50
"""So many pages are asked for: a browser's page costs many times what a call does."""

PATIENCE_S = 5.0
MOST_SILENT = 3
"""After so many that did not open, and one without an answer, nobody waits for the others."""

GONE = range(400, 600)
ASKS_WHO = (401, 403, 405, 429)
"""Answers of a page that is there: who are you, not you, not like this, not so often."""


def own_pages(location: str, links: Iterable[str]) -> list[str]:
    """The pages on an environment's own machine to which links lead; what stands behind `#` is the page's matter."""
    scheme, _, rest = location.partition("://")
    home = f"{scheme.rpartition('+')[2]}://{rest}"
    if urlsplit(home).scheme not in ("http", "https"):
        return []
    pages = dict.fromkeys(urldefrag(link).url for link in links)
    # An address without a page of its own stands for nothing that could be missing.
    return [page for page in pages if _machine(page) == _machine(home) and urlsplit(page).path]


def pages_opened(pages: Iterable[str], ca_file: str = "") -> dict[str, str]:
    """What came of opening the first of these pages: nothing where one came, or a sign-in that leads to it; else in
    words what came."""
    wanted = list(pages)[:MOST_PAGES]
    if not wanted:
        return {}
    # Loading it costs as much as a whole command, and whoever gets here has an environment that is reached by it.
    import httpx

    from amphora.environments.answers import failure_words
    from amphora.environments.calls import trusted

    found: dict[str, str] = {}
    with httpx.Client(timeout=PATIENCE_S, verify=trusted(ca_file), trust_env=False) as client:
        for page in wanted:
            try:
                # The page itself is not wanted, and may be large.
                with client.stream("GET", page, headers={"Accept": "text/html,*/*;q=0.5"}) as answer:
                    code = answer.status_code
            except (httpx.HTTPError, httpx.InvalidURL) as error:
                found[page] = failure_words(error)
                if sum(map(bool, found.values())) >= MOST_SILENT:
                    break
                continue
            found[page] = _words(code) if code in GONE and code not in ASKS_WHO else ""
    return found


def _words(code: int) -> str:
    known = code in {one.value for one in HTTPStatus}
    return f"{code} {HTTPStatus(code).phrase}" if known else str(code)


def _machine(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme, parts.netloc.rpartition("@")[2].lower()
