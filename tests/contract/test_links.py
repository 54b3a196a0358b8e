"""Links of items, opened as people would."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import pytest

from amphora.core.values.model import Listed, States
from amphora.engine.pages import Pages, opened_pages
from amphora.environments.links import MOST_PAGES, MOST_SILENT, own_pages, pages_opened
from tests.contract.answering import Said, served


def answer(method: str, path: str, query: dict[str, str], body: Any, headers: dict[str, str]) -> Said:
    assert (method, "authorization" in {name.lower() for name in headers}) == ("GET", False)
    code = int(path.rpartition("/")[2])
    return code, "a page", {"Location": "https://elsewhere.example/login"} if code == 302 else {}


def test_a_page_that_comes_or_asks_who_is_there_opens_and_others_are_told() -> None:
    with served(answer) as here:
        codes = ("200", "302", "401", "403", "404", "410", "500", "599")
        found = pages_opened(own_pages(here, [f"{here}/item/{code}#part" for code in codes]))
    assert {page.rpartition("/")[2]: words for page, words in found.items()} == {
        **dict.fromkeys(codes[:4], ""),
        "404": "404 Not Found",
        "410": "410 Gone",
        "500": "500 Internal Server Error",
        "599": "599",
    }
    assert list(pages_opened([f"{here}/item/200"]).values()) == ["no connection"]


@pytest.mark.parametrize(
    ("location", "link", "pages"),
    [
        ("nodered+http://127.0.0.1:1880", "http://127.0.0.1:1880/#flow/a1", ["http://127.0.0.1:1880/"]),
        ("https://mill.example/api", "https://mill.example/report/7", ["https://mill.example/report/7"]),
        ("https://mill.example/api", "https://MILL.example/report/7", ["https://MILL.example/report/7"]),
        ("https://mill.example/a+b", "https://mill.example/report/7", ["https://mill.example/report/7"]),
        # Another machine, another port, another scheme, no page of its own, no machine at all.
        ("https://mill.example/api", "https://press.example/report/7", []),
        ("https://mill.example/api", "https://mill.example:8443/report/7", []),
        ("https://mill.example/api", "http://mill.example/report/7", []),
        ("https://mill.example/api", "https://mill.example", []),
        ("practice:mill.practice", "https://mill.example/open/7", []),
        ("folder:mill", "", []),
    ],
)
def test_only_pages_of_the_environments_own_machine_are_asked_for(location: str, link: str, pages: list[str]) -> None:
    assert own_pages(location, [link, link]) == pages


def test_no_more_pages_are_asked_for_than_a_person_would() -> None:
    asked = []

    def count(method: str, path: str, *_: Any) -> Said:
        asked.append(path)
        return 200, "", {}

    with served(count) as here:
        assert len(pages_opened([f"{here}/item/{n}" for n in range(MOST_PAGES + 9)])) == len(asked) == MOST_PAGES


def test_a_machine_that_is_silent_is_not_asked_for_every_page() -> None:
    assert len(pages_opened([f"http://127.0.0.1:1/item/{n}" for n in range(20)])) == MOST_SILENT


class Shop:
    """Reports and jobs of one environment; pages of those that are named, 404 for everything else."""

    def __init__(self, **rows: Any) -> None:
        self.rows, self.pages, self.asked = rows, set[str](), list[str]()

    def answer(self, method: str, path: str, *_: Any) -> Said:
        name = path.rpartition("/")[2]
        self.asked.append(name)
        return (200 if name in self.pages else 404), "", {}

    def opened(self, *keys: str) -> Pages:
        with served(self.answer) as here:
            links = {name: f"{here}/page/{name}" for name in self.rows}
            listed = {
                name: Listed(name, kind, (name,), States(name, "", is_on, is_published), "1", links[name])
                for name, (kind, is_on, is_published) in self.rows.items()
            }
            entry = SimpleNamespace(location=here, ca_file="")
            side: Any = SimpleNamespace(by_key=listed, opened=SimpleNamespace(entry=entry))
            session: Any = SimpleNamespace()
            return opened_pages(session, side, keys)


def test_a_page_is_missed_of_what_is_in_use_where_others_of_its_kind_have_one() -> None:
    used, draft, off = ("report", True, True), ("report", True, False), ("report", False, True)
    shop = Shop(
        mine=used, sketch=draft, asleep=off, theirs=used, rest=("report", None, None), job=("job", None, None)
    )
    gone = dict.fromkeys(("mine", "sketch", "asleep", "job"), "404 Not Found")
    # An interface without any pages.
    assert shop.opened(*gone) == Pages(4, gone)
    # A draft of somebody else is no sign of what is used; and what is used of ours, is.
    shop.pages = {"theirs"}
    assert shop.opened(*gone) == Pages(4, gone, frozenset({"mine"}))
    shop.asked.clear()
    shop.pages = {"rest"}
    assert shop.opened("rest", "mine") == Pages(2, {"mine": "404 Not Found"}, frozenset({"mine"}))
    assert shop.asked == ["rest", "mine"]  # What one of ours shows needs no others.
    shop.pages = {"sketch", "asleep", "job"}
    assert shop.opened("mine") == Pages(1, {"mine": "404 Not Found"})


def test_a_page_of_another_kind_is_no_sign() -> None:
    shop = Shop(mine=("report", None, None), job=("job", None, None))
    shop.pages = {"job"}
    assert shop.opened("mine", "job") == Pages(2, {"mine": "404 Not Found"})
