"""What to do next: a value that says which words are a command, so that it can be pasted whatever they hold."""

from __future__ import annotations

import re
import shlex

from amphora.core.values.late import dataclass

PROGRAM = "amphora"
_PLAIN = re.compile(r"[\w@%+=:,./-]+(?:(?<=\w)~[\w.-]+)*", re.ASCII)


class Blank(str):
    """A word of a command that holds something to be filled in; it is shown as it is, and no shell would take it for
    what it stands for."""

    __slots__ = ()


@dataclass(frozen=True)
class NextStep:
    """Advice in words, commands to be pasted one after the other, or both: then the advice comes first. Empty where
    there is nothing to do."""

    advice: str = ""
    commands: tuple[tuple[str, ...], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.advice or self.commands)

    @property
    def is_ready(self) -> bool:
        """Whether there is a command, with nothing to be filled in."""
        return bool(self.commands) and not any(isinstance(word, Blank) for words in self.commands for word in words)

    @property
    def line(self) -> str:
        """The commands as a shell reads them; empty where there are none."""
        return " && ".join(" ".join(map(_quoted, words)) for words in self.commands)

    def plus(self, *words: str) -> NextStep:
        """The same with more words behind the last command."""
        *before, last = self.commands
        return NextStep(self.advice, (*before, (*last, *words)))

    def everywhere(self, *words: str) -> NextStep:
        """The same with these words behind each command; what only asks for help works anywhere."""
        if not words:
            return self
        commands = (one if "--help" in one else (*one, *words) for one in self.commands)
        return NextStep(self.advice, tuple(commands))

    def then(self, other: NextStep) -> NextStep:
        """The same, and after that another command."""
        return NextStep(self.advice, (*self.commands, *other.commands))

    def __str__(self) -> str:
        # A colon between the two: what stands behind it can be marked and pasted.
        return f"{self.advice}: {self.line}" if self.advice and self.commands else self.advice or self.line


NOTHING = NextStep()


def to_type(*words: str) -> NextStep:
    """A command of ours, by the words behind the program's name. What is to be filled in is a `blank`: a value may be
    in capitals too, and has to be quoted where it needs to be.

    >>> print(to_type("compare", "mill's own", blank("ENVIRONMENT")))
    amphora compare "mill's own" ENVIRONMENT
    """
    return NextStep("", ((PROGRAM, *words),))


def other_program(*words: str) -> NextStep:
    """A command of another program."""
    return NextStep("", (words,))


def advice(words: str, step: NextStep = NOTHING) -> NextStep:
    """What nobody can type, before a command if there is one."""
    return NextStep(words, step.commands)


def blank(text: str) -> Blank:
    """A word to be filled in, by what stands for it: `NAME`, `ITEM…`, `build|test|live`."""
    return Blank(text)


def open_value(name: str) -> Blank:
    """`NAME=…`: the name stands, the value has to be filled in."""
    return Blank(f"{_quoted(name)}=…")


def _quoted(word: str) -> str:
    if isinstance(word, Blank):
        return word
    # A tilde means something at the beginning of a word only, and names of copies have one in their middle.
    if _PLAIN.fullmatch(word):
        return word
    plain = shlex.quote(word)
    # In double quotes where that is the same: so people write titles, and an apostrophe stays readable.
    # What a shell still reads inside double quotes stays in single ones.
    if plain != word and not set(word) & set('"$`\\!') and word.isprintable():
        return f'"{word}"'
    return plain
