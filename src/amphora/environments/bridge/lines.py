"""Every line that a bridge sheet may have, table by table, and of which type: what `docs/bridges.md` explains."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Final

from amphora.core.form.kind_faults import FIELDS

METHODS: Final = ("get", "post", "put", "patch", "delete")
MEANINGS: Final = (
    "absent",
    "taken",
    "moved",
    "in use",
    "forbidden",
    "invalid",
    "later",
    "unpublished",
    "signed out",
)

PLACEHOLDER = re.compile(r"\{([a-z_]+|(?:entry|value)(?:\.[A-Za-z_]\w*)+)\}")
"""A name, or a member of an entry as it is there or is to be: some platforms tell entries apart by two of theirs, and
some take an id where they show an object."""
KNOWN: Final = frozenset(
    "id title folder revision parent user address location job page offset cursor size object above entry rows"
    " row value definition held path place uid".split()
)

KEYED = {"at": str, "as": str}
CALL = {
    **dict.fromkeys(METHODS, str),
    "at": str,
    "body": (dict, list, str),
    "as_form": bool,
    "as_text": str,
    "media": str,
    "headers": dict,
    "keyed": dict,
}
JOB = {
    **CALL,
    "job": str,
    "state": str,
    "done": list,
    "failed": list,
    "id": str,
    "words": str,
    "wait_s": (int, float),
}
CHANGE = {**CALL, "job": dict}
LISTED = {**CALL, "rows": str, "pages": dict}
TOP: dict[str, Any] = {
    "bridge": str,
    "title": str,
    "tried": list,
    "base": str,
    "kinds": list,
    "own": list,
    "json": str,
    "empty": str,
    "about": dict,
    "sign_in": dict,
    "account": dict,
    "pages": dict,
    "errors": dict,
    "error": list,
    "secrets": str,
    "folders": dict,
    "supply": dict,
    "item": dict,
    "hook": str,
}
ABOUT = {"release": dict, "uid": dict, "region": dict, "links": str}
SIGN_IN = {
    "how": str,
    "token": str,
    "scope": str,
    "credentials": str,
    "header": str,
    "call": dict,
    "scheme": str,
    "fixed": dict,
    "also": list,
}
LOGIN = {**CALL, "form": dict, "cookie": str}
ALSO = {**CALL, "header": str, "cookie": str}
ACCOUNT = {**CALL, "name": (str, list), "rights": str, "allows": dict}
PAGES = {"how": str, "ask": str, "size": dict, "first": int, "next": str, "total": str, "header": str}
SIZE = {"ask": str, "of": int}
ERRORS = {"code": str, "words": str, "pointer": str, "refused": (str, dict)}
ERROR = {"status": (int, list), "code": str, "says": str, "on": (str, list), "means": str}
FOLDERS = {"index": dict, "id": str, "title": str, "parent": str, "create": dict}
SUPPLY = {
    "kind": str,
    "space": str,
    "number": bool,
    "index": dict,
    "id": str,
    "id_form": str,
    "name": str,
    "type": str,
    "owner": str,
    "works": str,
    "probe": dict,
    "objects": dict,
    "complete": bool,
}
ITEM: dict[str, Any] = {
    "index": dict,
    "row": (dict, str),
    "id": str,
    "id_form": str,
    "uid": str,
    "title": str,
    "folder": str,
    "revision": str,
    "on": (str, dict),
    "changed_at": str,
    "changed_by": str,
    "published": (str, dict),
    "unpublished": (str, dict),
    "gone": (str, dict),
    "link": str,
    "read": dict,
    "draft": dict,
    "more": dict,
    "definition": (list, dict),
    "write": dict,
    "create": dict,
    "update": dict,
    "retire": dict,
    "publish": dict,
    "take_back": dict,
    "switch": dict,
    "needs": dict,
    "rows": dict,
    "hidden": list,
    "within": dict,
}
ANY_ID: Final = "{uid}"
"""An id that nobody has yet."""
IN_HEADER, IN_LIST = NO_PLACES = ("location", "listed")
"""Where the id of what was made can stand, if at no place in the answer: in its Location header, or in the list."""
BARE: Final = "{address}"
"""How a path begins that stands behind the platform's address and not behind the base."""
SCHEMES = ("https://", "http://")
"""How an address begins, where it is none behind the base."""
WITHIN = {"kind": str, "as": str, "along": bool}
FLAG = {"at": str, "is": list}
FLAGS = ("on", "published", "unpublished", "gone")
PERMISSIONS = ("write", "publish", "switch", "retire", "grant")
WRITE = {"members": dict, "as": dict, "wrapped": str, "with": dict, "without": list, "inside": dict, "new": dict}
AROUND = {"first": dict, "then": dict, "else": dict}
"""Calls that come around one."""
CREATE = {
    **CHANGE,
    **AROUND,
    "id": str,
    "id_form": str,
    "uid": str,
    "only": list,
    "along": list,
    "follow": bool,
    "secrets": str,
    "members": dict,
    "nulls": str,
    "same": list,
    "with": dict,
    "brings": list,
}
BRINGS = {"kind": str, "keeps": (str, dict)}
NAMED = {"titled": dict, "moved": dict}
"""Calls by which an item gets another title and another folder, where its body says neither."""
UPDATE = {
    **CHANGE,
    **AROUND,
    **NAMED,
    "match": str,
    "when": str,
    "absent": str,
    "read_only": list,
    "how": str,
    "members": dict,
    "nulls": str,
    "with": dict,
}
RETIRE = {**CHANGE, "match": str, "when": str, "takes": list, "empties": list, **AROUND}
TAKES = {"kind": str, "at": str}
DO = {**CHANGE, "match": str}
SWITCH = {"on": (dict, bool, str, int), "off": (dict, bool, str, int)}
"""Two calls, or the values of a member that is written with everything else."""
MORE = {
    **LISTED,
    "write": dict,
    "add": dict,
    "remove": dict,
    "change": dict,
    "each": dict,
    "entry": str,
    "by": str,
    "without": list,
    "file": str,
    "text": str,
}
FILED = {**CHANGE, "part": str}
ANY_TYPE: Final = "*/*"
"""That the platform itself says of which type an attachment is."""
ROWS = {"read": dict, "load": dict, "count": (str, dict), "without": list, "id": str, "links": list}
LINKS = {"each": str, "at": str, "of": str}
LOAD = {**CHANGE, "at_once": int, "ids": str}
COUNT = {**CALL, "from_header": str}
BY_READING: Final = "by reading"
"""How rows are counted that nobody counts for us."""
PROBE = {**CALL, "works": str}
OBJECTS = {**CALL, "names": str, "parts": str}

HOMES: Final[Mapping[str, Mapping[str, Any]]] = {
    "[sign_in]": SIGN_IN,
    "[account]": ACCOUNT,
    "[pages]": PAGES,
    "[errors]": ERRORS,
    "[[error]]": ERROR,
    "[item.KIND]": ITEM,
    "`write`": WRITE,
    "`create`": CREATE,
    "`update`": UPDATE,
    "`retire`": RETIRE,
    "`rows`": ROWS,
    "[fields] of the kind sheet": FIELDS,
}
"""Where a line belongs that stands in a wrong table."""

TEXTS = frozenset(
    "kinds own definition members headers fixed inside read_only only along without done failed empties same"
    " hidden".split()
)
"""Lists and tables of texts, wherever they stand."""

CHOICES: Final[Mapping[str, tuple[str, ...]]] = {
    "sign_in.how": ("none", "bearer", "basic", "header", "client", "login"),
    "sign_in.credentials": ("basic", "body"),
    "pages.how": ("none", "page", "offset", "cursor", "link"),
    "secrets": ("left out", "null"),
    "json": ("compact", "spaced"),
    "empty": ("shown", "left out"),
    "update.match": ("etag", "sent", "none"),
    "update.absent": ("keep", "default"),
    "create.nulls": ("sent", "left out"),
    "create.secrets": ("left out", "empty", "null"),
    "update.nulls": ("sent", "left out"),
    "update.how": ("whole", "by member", "merge patch", "json patch"),
    "update.when": ("any", "off"),
    "retire.when": ("any", "off"),
    "supply.kind": ("connection", "person", "setting"),
}
"""The named behaviours: the first is what is meant where nothing is said."""
