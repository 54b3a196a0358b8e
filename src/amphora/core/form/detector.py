"""What gives a secret away: the name of its place, its shape, or how random it is. A table of rules, each with
examples and near misses, which a test holds it to (docs/secrets.md).

A name alone is not enough: most of what stands under `password` is a hint, a variable or a word on a button. Shapes
are enough by themselves. Randomness alone only makes somebody look.
"""

from __future__ import annotations

import base64
import binascii
import math
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import Final

from amphora.core.form.shapes import SHAPES
from amphora.core.values.late import dataclass
from amphora.core.values.model import Json

NAME, SHAPE, ENTROPY = "name", "shape", "entropy"


@dataclass(frozen=True)
class Hit:
    """A secret in a text: from where to where, and by which rule. One that is not `is_sure` is worth a look, and no
    reason to refuse anything."""

    start: int
    end: int
    rule: str
    is_sure: bool = True


STRONG: Final = frozenset(
    "password passwd pwd passphrase passcode passwort pw psw secret secrets token credential credentials cred"
    " creds apikey accesskey secretkey privatekey sharedkey authtoken accesstoken clientsecret otp totp"
    " kennwort keyphrase jwt psk".split()
)
"""Words that, as the last of a name, make it that of a secret."""

WEAK: Final = frozenset("auth authorization authentication cookie cookies sas signature bearer pass".split())
"""Words under which a secret may stand as well as a word for how it is sent."""

DIGITS: Final = frozenset("pin pincode".split())
"""Words under which digits are a secret, and words the name of something else: a board has pins too."""

KEYS: Final = frozenset(
    "api access private secret encryption encrypt signing sign shared master session client account storage service"
    " license licence hmac symmetric ssh deploy subscription crypto cipher webhook app application admin root wallet"
    " recovery db auth".split()
)
"""Words that, before `key`, make it a secret one: a key alone is a column, a lookup, a button."""

_GENERIC: Final = frozenset("value values val v data content text string default current plain raw 0 1".split())
"""Names that say nothing: the name is that of what holds them."""

TAILS: Final = frozenset("value val text plain plaintext string raw clear cleartext b64 base64 hex hash base".split())
"""Words behind a secret's name that change nothing about it."""

_HEADS: Final = frozenset(
    "max min num number count total limit is has show hide use uses enable enabled disable allow allowed require"
    " required requires with without no needs need reset forgot".split()
)
"""Words in front that make it the name of a count or a switch."""

_WORDS: Final = re.compile(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+|[0-9]+")
_TOKEN: Final = re.compile(r"\$\{amphora:[^}]*\}|\Aamphora:(?!literal:)[^\s]*\Z")

_PLACEHOLDER: Final = r"""(?ix) \A \s* (?:
      [*x•.…\-_#?]+ | [*•]{4,}\w{0,4} | n/a | see\b.* # masked, or elsewhere
    | \{\{.*\}\} | \$?\{.*\} | \$\(.*\) | \#\{.*\} | @\{.*\} | \(\(.*\)\) | <.*> | \[.*\] | %[\w.]+% | %\(?\w*\)?s
    | \$[A-Za-z_]\w* | [:@\#][a-z_]\w* | !\w+\s.* | \w+\+\w+://.* # variables
    | (?:process\.env|os\.environ|os\.getenv|env|environ|secrets?|vars?|variables?|config|settings?|params?|msg|flow
       |global|context|inputs?|request|req|this|self|ctx|payload|vault|keyring|parameters?)
      (?:[.:\[(/]\S*)                  # read from somewhere
    | [A-Za-z_]\w*\(.*\)                            # made by a function
    | [\w.+-]*(?:example|sample|dummy|placeholder|changeme|change[-_ ]me|your[-_ ]|my[-_ ]|todo|tbd|xxx|redacted
       |masked|hidden)[\w.+ -]*
    ) \s* \Z"""
_PLAIN_WORDS: Final = frozenset(
    """required optional none null nil true false yes no on off na unknown default string text number integer boolean
    object array any password passwd passphrase pass pwd token secret key pin code credential credentials auth user
    username name login hidden visible masked redacted enabled disabled basic bearer digest oauth oauth2 apikey header
    query body cookie form manual automatic custom inherit inherited prompt ask empty blank missing invalid expired
    valid reset forgot show hide confirm repeat current new old public private shared internal external local remote
    md5 sha1 sha256 sha512 bcrypt hs256 rs256 hmac plain base64 hex utf8 ascii jwt saml ldap kerberos ntlm certificate
    session static dynamic primary secondary read write admin owner guest service person group input output id type
    kind label title description hint note field column table lookup reference always never weekly daily monthly
    once rotate rotated strong weak medium low high short long first last next previous left right top bottom
    passkey mail email phone sms app card include omit csrf xsrf same-origin undefined nan changeit changeme
    wiki""".split()
)
_TALK: Final = (
    r"(?i)\b(?:enter|your|please|type|here|required|must|should|forgot|forgotten|reset|repeat|confirm|wrong|invalid"
    r"|minimum|characters?|least|field|label|click|choose|ask|asks|asked|keep|keeps|kept|ends?|expires?|expired"
    r"|missing|is|are|was|the|a|an|of|for|to|and|with|not|on|by|in|from)\b"
)

_LONG = re.compile(r"(?<![\w+/=.-])[A-Za-z0-9+/_-]{24,}={0,2}(?![\w+/=-])")
LEAST_ENTROPY_BITS = 4.0
"""Bits for each letter; English words have about 3, hexadecimal at most 4."""

SHORTEST = 3
"""Nothing shorter is taken for a secret, whatever its name."""


def hits_in(text: str, name: str = "") -> list[Hit]:
    """The secrets in a text that stands at a place of this name, in order. Tokens of ours in it are not looked at:
    what they stand for is not there."""
    if len(text) < SHORTEST:
        return []
    # Blanked and not cut out, so that places stay what they are, and what stands on both sides doesn't grow together.
    plain = _TOKEN.sub(lambda found: " " * len(found[0]), text) if "amphora:" in text else text
    found = list(_by_shape(plain))
    # By its name only where no shape was found: a shape says more exactly which part of the text it is.
    if not found and name and is_named(name, plain):
        start = len(plain) - len(plain.lstrip())
        found = [Hit(start, len(plain.rstrip()), NAME)]
    found += [
        one for one in _by_entropy(plain) if not any(hit.start < one.end and one.start < hit.end for hit in found)
    ]
    return sorted(found, key=lambda hit: hit.start)


def is_secret(name: str, value: Json) -> bool:
    """Whether a value at a place of this name is a secret by every appearance: text, or a number."""
    if isinstance(value, str):
        return any(hit.is_sure for hit in hits_in(value, name))
    # But for one or two digits: switches, ports of a board and counts.
    return isinstance(value, int) and not isinstance(value, bool) and is_named(name, str(value), is_number=True)


def is_named(name: str, value: str, is_number: bool = False) -> bool:
    """Whether a value is a secret because of the name of its place.

    >>> is_named("pin", "4711"), is_named("pin", "A71F"), is_named("pin", "GPIO17"), is_named("mill", "4711")
    (True, True, False, False)
    """
    kind = kind_of_name(name)
    if kind is None or len(value.strip()) < SHORTEST or is_placeholder(value):
        return False
    if kind == "digits":
        # A pin of a board has one or two digits, and a name: D7, GPIO17.
        return 2 * sum(letter.isdigit() for letter in value) >= len(value)
    if is_number:
        # A small number of tokens is how many there are.
        return kind == "strong" and (len(value) >= 7 or not name_words(name)[-1].startswith("token"))
    if kind == "weak":
        # `auth: basic` and `cookie: session` say how; a secret has something that no word has.
        is_mixed = len(value) >= 12 and re.search("[a-z][A-Z]", value) is not None and " " not in value
        is_pair = re.match(r"[\w.-]+=[^;\s]{6,}", value) is not None
        has_digit = any(letter.isdigit() for letter in value) and not value.isdigit()
        return len(value) >= 6 and (has_digit or is_mixed or is_pair)
    return True


def is_placeholder(value: str) -> bool:
    """Whether a text only stands for a secret: a hint, a variable, a mask, a word from a form."""
    value = value.strip()
    if compiled(_PLACEHOLDER).match(value) or value.lower().strip(".:!?*() ") in _PLAIN_WORDS:
        return True
    words = value.split()
    if len(words) < 2:
        # A path, an address or a name of several plain words leads to a secret and is none.
        return bool(
            re.fullmatch(
                r"(?:https?:/|\.{0,2})/[\w./-]*|[a-z]+(?:[-_.][a-z]+)*[-_.](?:password|secret|token|key|pin)",
                value,
                re.IGNORECASE,
            )
        )
    return bool(compiled(_TALK).search(value)) or all(word.lower().strip(".,:!?") in _PLAIN_WORDS for word in words)


def name_words(name: str) -> list[str]:
    """The words of a name, in lower case: of camelCase, kebab-case, snake_case and dotted ones alike."""
    return [word.lower() for word in _WORDS.findall(name)]


@lru_cache(8192)
def kind_of_name(name: str) -> str | None:
    """`strong` where the name is that of a secret, `weak` where it may be, `digits` where digits are one, None where
    it is not."""
    words = name_words(name)
    # `passwordValue1` is a password: what stands behind the word changes nothing.
    while len(words) > 1 and (words[-1] in TAILS or words[-1].isdigit()):
        words.pop()
    # `maxTokens`, `hasPassword`, `useToken`: counts and switches.
    if not words or (len(words) > 1 and words[0] in _HEADS):
        return None
    last = words[-1]
    joined = "".join(words[-2:])
    # Two words joined as well, for names that write one thing both ways: passCode, api-key.
    for word in {last, last.removesuffix("s"), joined, joined.removesuffix("s")}:
        if word in STRONG:
            return "strong"
        if word in DIGITS:
            return "digits"
    if last in ("key", "keys") and len(words) > 1 and words[-2] in KEYS:
        return "strong"
    if last in ("string", "str", "dsn") and words[0] in ("connection", "conn", "dsn"):
        return None
    return "weak" if last in WEAK else None


def _by_shape(text: str) -> Iterator[Hit]:
    taken: list[tuple[int, int]] = []
    for shape in SHAPES:
        # Before the pattern: a piece that each match must hold is found a hundred times as fast.
        if not any(hint in text for hint in shape.hints):
            continue
        pattern = compiled(shape.pattern)
        is_part = "secret" in pattern.groupindex
        for found in pattern.finditer(text):
            start, end = found.span("secret" if is_part else 0)
            value = text[start:end]
            # A shape that is told by itself stands for nothing else.
            is_hint = is_part and is_placeholder(value)
            if is_hint or any(start < other[1] and other[0] < end for other in taken):
                continue
            # "Basic measurements" is English: only what decodes to a name and a password counts.
            if shape.name.endswith("basic authentication") and not _is_basic(value):
                continue
            taken.append((start, end))
            yield Hit(start, end, shape.name)


def _is_basic(value: str) -> bool:
    """Whether base64 holds a name, a colon and a password (RFC 7617, section 2).

    >>> [_is_basic(text) for text in ("bWlsbDpvbGl2ZQ==", "bWlsbDpvbGl2ZQ", "bWls bDpvbGl2ZQ", "b2xpdmVz")]
    [True, True, False, False]
    """
    try:
        # Without its padding it is often written too.
        decoded = base64.b64decode(value + "=" * (-len(value) % 4), validate=True).decode()
    except (binascii.Error, UnicodeDecodeError):
        return False
    return ":" in decoded and decoded.isprintable()


def _by_entropy(text: str) -> Iterator[Hit]:
    for found in _LONG.finditer(text):
        if looks_random(found[0]):
            yield Hit(*found.span(), ENTROPY, is_sure=False)


def looks_random(text: str) -> bool:
    """Whether a word is as random as a key: letters and digits mixed throughout, and of high entropy."""
    # Ids in one case, hashes in hexadecimal and long words are everywhere; keys mix everything.
    if len(re.findall("[0-9]+", text)) < 2 or text.lower() == text or text.upper() == text:
        return False
    # Names in CamelCase or with dashes come apart into words; keys into crumbs.
    pieces = _WORDS.findall(text)
    if sum(map(len, pieces)) / len(pieces) >= 3:
        return False
    counts = Counter(text)
    bits = -sum(n / len(text) * math.log2(n / len(text)) for n in counts.values())
    return bits >= LEAST_ENTROPY_BITS


@lru_cache(64)
def compiled(pattern: str) -> re.Pattern[str]:
    """A pattern, made when it is first needed: all of them together would cost every command a tenth of its start.
    On letters of ASCII: by Unicode's folding a long s would be one, which no glance at the bytes could see."""
    return re.compile(pattern, re.ASCII)


def name_of_place(at: Iterable[str]) -> str:
    """The name by which a place goes: the last step of its pointer that says anything. An element goes by the name of
    its array, a `value` by that of the object that holds it."""
    return next((step for step in reversed(list(at)) if not step.isdigit() and step.lower() not in _GENERIC), "")
