"""What a platform answers."""

from __future__ import annotations

import httpx

from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
from amphora.core.values.strict_json import JsonFault, parse_json
from amphora.environments.bridge import lines
from amphora.environments.bridge.paths import text_at


@dataclass(frozen=True)
class Answer:
    """What a call answered: its JSON (None where there was none), entity tag and location."""

    body: Json
    etag: str = ""
    location: str = ""
    wait_s: float = 0.0

    def id_at(self, where: str) -> str:
        """The id of what was made: at a place of the answer, or at the end of the address in its header (RFC 9110,
        section 10.2.2), for some answer with nothing else."""
        if where == lines.IN_HEADER:
            return self.location.rstrip("/").rpartition("/")[2]
        return text_at(self.body, where)


class Absent(EnvironmentRefused):
    """There is nothing under that id."""


def json_of(answer: httpx.Response) -> Json:
    """What an answer holds; None where it is no JSON."""
    try:
        return parse_json(answer.content)
    except JsonFault:
        return None


def type_of(answer: httpx.Response) -> str:
    """What an answer says it is, without parameters; empty where it doesn't say."""
    return str(answer.headers.get("Content-Type", "")).partition(";")[0].strip().lower()


def may_be_json(answer: httpx.Response) -> bool:
    """Whether an answer says that it is JSON, or says nothing of that."""
    told = type_of(answer)
    return not told or told.endswith(("/json", "+json"))


def is_plain(answer: httpx.Response) -> bool:
    """Whether an answer is a word or two, like OK, and neither a page nor half a document."""
    return type_of(answer) in ("", "text/plain") and not answer.text.lstrip().startswith(("<", "{", "["))
