"""Settings: the types that kind sheets give them, and whether a value is of one."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.values.canon import same
from amphora.core.values.model import Json
from amphora.core.values.strict_json import JsonFault, parse_json

NUMBER, TEXT, YES_NO = "number", "text", "yes/no"
IN_TEXT = " in text"
"""Behind a type: the platform writes such values as texts (`"15"`, `"true"`), and so does the crosswalk."""
JSON_IN_TEXT = f"JSON{IN_TEXT}"
TYPES = (NUMBER, TEXT, YES_NO, f"{NUMBER}{IN_TEXT}", f"{YES_NO}{IN_TEXT}", JSON_IN_TEXT)
"""All of them but for choices, which hold a `|`."""


def is_setting(value: Json, type_: str) -> bool:
    """Whether a value is of a setting's type: `number`, `text`, `yes/no`, or one of several (`low|high`); the first
    and the third, and JSON, also in texts (`number in text`)."""
    if type_.endswith(IN_TEXT):
        return isinstance(value, str) and _holds(value, type_)
    if type_ == NUMBER:
        # In Python True is a number; on a platform it is not.
        return isinstance(value, int | float) and not isinstance(value, bool)
    if type_ == YES_NO:
        return isinstance(value, bool)
    if type_ == TEXT:
        return isinstance(value, str)
    return any(same(value, choice) for choice in type_.split("|"))


def setting_words(type_: str) -> str:
    """A type as people say it."""
    if type_.endswith(IN_TEXT):
        words = {JSON_IN_TEXT: "JSON"}.get(type_) or setting_words(type_.removesuffix(IN_TEXT))
        return f"{words}, in quotes"
    return {NUMBER: "a number", TEXT: "text", YES_NO: "yes or no"}.get(type_, f"one of {type_.replace('|', ', ')}")


def _holds(text: str, type_: str) -> bool:
    """Whether a text is a number, JSON, or one of `true` and `false`, as its type says."""
    if type_.startswith(YES_NO):
        return text in ("true", "false")
    try:
        # As strict as for packages: what we call a number has to be one for the platform.
        value = parse_json(text.encode())
    except (JsonFault, UnicodeEncodeError):
        return False
    return type_ == JSON_IN_TEXT or is_setting(value, type_.removesuffix(IN_TEXT))


def parse_setting(text: str, type_: str) -> Json:
    """What a person wrote, as a value of the type; ValueError where it is none."""
    if type_.endswith(IN_TEXT):
        # What people type is taken; what stands in the file is what the platform writes.
        plain = {"yes": "true", "no": "false"}.get(text.lower(), text) if type_.startswith(YES_NO) else text
        if not _holds(plain, type_):
            raise ValueError(f"{text!r} is not {setting_words(type_)}")
        return plain
    if type_ == NUMBER:
        number = float(text)
        # "3" stays 3 and "3.0" stays 3.0: what a person typed is what a platform gets.
        return int(number) if number.is_integer() and "." not in text and "e" not in text.lower() else number
    if type_ == YES_NO:
        words = {"yes": True, "true": True, "no": False, "false": False}
        if text.lower() not in words:
            raise ValueError(f"{text!r} is neither yes nor no")
        return words[text.lower()]
    if type_ != TEXT and not is_setting(text, type_):
        raise ValueError(f"{text!r} is not {setting_words(type_)}")
    return text


def type_of(values: Iterable[Json]) -> str:
    """The type that several values of one setting have, as far as they tell."""
    # What begins with a question mark is a guess that nobody has confirmed.
    known = [value for value in values if not (isinstance(value, str) and value.startswith("?"))]
    for type_ in (NUMBER, YES_NO):
        if known and all(is_setting(value, type_) for value in known):
            return type_
    return TEXT
