"""Settings: the types that kind sheets give them, and whether a value is of one."""

from __future__ import annotations

from collections.abc import Iterable

from amphora.core.values.canon import same
from amphora.core.values.model import Json

NUMBER, TEXT, YES_NO = "number", "text", "yes/no"


def is_setting(value: Json, type_: str) -> bool:
    """Whether a value is of a setting's type: `number`, `text`, `yes/no`, or one of several (`low|high`)."""
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
    return {NUMBER: "a number", TEXT: "text", YES_NO: "yes or no"}.get(type_, f"one of {type_.replace('|', ', ')}")


def parse_setting(text: str, type_: str) -> Json:
    """What a person wrote, as a value of the type; ValueError where it is none."""
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
