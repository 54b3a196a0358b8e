"""What a platform answers."""

from __future__ import annotations

from amphora.core.values.errors import EnvironmentRefused
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json
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
