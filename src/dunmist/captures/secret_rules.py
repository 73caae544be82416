"""Recognize names whose value is secret, and values that hide nothing."""

import re
import tomllib
from functools import cache
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.errors import SettingsError
from dunmist.trusted_paths import read_settings

TABLE = Path(__file__).with_name("secrets.toml")
# dbPassword, DB_PASSWORD and db-password are the same two words
_WORD = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
# a text without any of these matches no shape of the shipped table
_SHAPED = re.compile(r"[@$ ?&|]|[\w+./-]{12}")
PASS_LEAST = 5  # of a word that ends with 'pass'


class Shape(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Patterns of what is secret wherever it stands, and of what stays in front of it.

    With ``random`` only what looks as if it was drawn at random is hidden.
    """

    hide: str
    keep: str = ""
    random: bool = False


class ProgramOptions(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Options of programs whose names match ``called``; the table says what the others mean."""

    called: str
    follows: list[str] = []
    attached: list[str] = []
    pair: list[str] = []
    between: str = ":"
    operand: int = 0
    only_with: str = ""
    bare: list[str] = []
    after: dict[str, int] = {}
    last: bool = False


class Secrets(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The table of rules as a file has it."""

    names: list[str] = []
    words: list[str] = []
    endings: list[str] = []
    keys_of: list[str] = []
    before_random: list[str] = []
    about: list[str] = []
    without: list[str] = []
    not_names: list[str] = []
    harmless: list[str] = []
    shapes: list[Shape] = []
    programs: list[ProgramOptions] = []


class ReadyShape(NamedTuple):
    """A shape made ready; its groups are ``keep`` and ``hide``."""

    pattern: re.Pattern[str]
    random: bool


class Rules(NamedTuple):
    """The rules, compiled."""

    secrets: Secrets
    names: re.Pattern[str] | None
    harmless: re.Pattern[str]
    shapes: tuple[ReadyShape, ...]
    any_program: re.Pattern[str]
    # text that every shape contains, so that most lines need one search
    every_shape_has: re.Pattern[str] | None

    def is_secret_name(self, name: str) -> bool:
        """Whether a name, without dashes in front of it, says that its value is secret."""
        if name in self.secrets.not_names:
            return False
        if self.names is not None and self.names.fullmatch(name):
            return True
        words = [word.lower() for word in _WORD.findall(name)]
        table = self.secrets
        if not words or words[-1] in table.about or not set(words).isdisjoint(table.without):
            return False
        # of words that are written together only the end is known
        return any(word in table.words or self._ends_so(word) for word in words) or any(
            word in table.keys_of and following in ("key", "keys")
            for word, following in pairwise(words)
        )

    def announces_random(self, name: str) -> bool:
        """Whether a name says that a value is secret if that looks drawn at random."""
        words = [word.lower() for word in _WORD.findall(name)]
        return bool(words) and words[-1] in self.secrets.before_random

    def is_harmless(self, value: str) -> bool:
        """Whether a value hides nothing, whatever the name in front of it."""
        return not value or self.harmless.fullmatch(value) is not None

    def of_program(self, words: list[str], within: int) -> ProgramOptions | None:
        """Return the options of the first program that is named among the first words."""
        for word in words[:within]:
            called = word.rpartition("/")[2]
            # one search for all of them: most words are no program's name
            if self.any_program.fullmatch(called) is None:
                continue
            for options in self.secrets.programs:
                if re.fullmatch(options.called, called) and _has(words, options.only_with):
                    return options
        return None

    def _ends_so(self, word: str) -> bool:
        return len(word) >= PASS_LEAST and word.endswith(tuple(self.secrets.endings))


def _has(words: list[str], pattern: str) -> bool:
    return not pattern or any(re.fullmatch(pattern, word) for word in words)


@cache
def _shipped() -> Secrets:
    text = TABLE.read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), Secrets)


@cache
def load_rules(own: Path | None = None) -> Rules:
    """Return the shipped rules with those of the user's own file; raises SettingsError."""
    secrets = _shipped()
    try:
        text = read_settings(own) if own is not None else None
        if text is not None:
            added = msgspec.convert(tomllib.loads(text), Secrets)
            secrets = Secrets(
                *(
                    getattr(secrets, field) + getattr(added, field)
                    for field in Secrets.__struct_fields__
                )
            )
    except (OSError, ValueError) as error:
        raise SettingsError(
            f"{own}: no rules for secrets ({error}); mend it, or move it away"
        ) from error
    try:
        for options in secrets.programs[len(_shipped().programs) :]:
            re.compile(options.called)  # each by itself, as they are put together
        return _ready(secrets)
    except re.error as error:
        raise SettingsError(f"{own}: invalid pattern ({error}); correct it") from error


def _ready(secrets: Secrets) -> Rules:
    named = f"(?:[\\w.-]*[_.-])?(?:{'|'.join(secrets.names)})" if secrets.names else None
    return Rules(
        secrets,
        re.compile(named, re.I) if named else None,
        re.compile("|".join(secrets.harmless) or r"(?!)"),
        tuple(
            ReadyShape(re.compile(f"(?P<keep>{shape.keep})(?P<hide>{shape.hide})"), shape.random)
            for shape in secrets.shapes
        ),
        re.compile("|".join(f"(?:{options.called})" for options in secrets.programs) or r"(?!)"),
        _SHAPED if secrets.shapes == _shipped().shapes else None,
    )
