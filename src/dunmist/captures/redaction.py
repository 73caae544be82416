"""Masks secrets in command lines before they reach a file.

What is secret is a table, ``secrets.toml``, to which a file of the user's own adds. Masking errs on
the side of hiding.
"""

import re
import tomllib
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunmist.errors import SettingsError

MASK = "[masked]"


class Shape(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Patterns of what is secret wherever it stands, and of what stays in front of it."""

    hide: str
    keep: str = ""


class Secrets(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The table of rules as a file has it."""

    names: list[str] = []
    shapes: list[Shape] = []


class Rules(NamedTuple):
    """The rules made ready: a name whose value follows, a name with its value, secret shapes."""

    value_follows: re.Pattern[str]
    within: tuple[re.Pattern[str], ...]


@cache
def _shipped() -> Secrets:
    text = (files("dunmist.captures") / "secrets.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), Secrets)


@cache
def load_rules(own: Path | None = None) -> Rules:
    """Return the shipped rules with those of the user's own file; raises SettingsError."""
    secrets = _shipped()
    try:
        if own is not None:
            added = msgspec.convert(tomllib.loads(own.read_text(encoding="utf-8")), Secrets)
            secrets = Secrets(secrets.names + added.names, secrets.shapes + added.shapes)
    except (FileNotFoundError, PermissionError):
        pass  # nobody has to have one, and somebody else's is not ours
    except (OSError, ValueError) as error:
        raise SettingsError(
            f"{own}: no rules for secrets ({error}); mend it, or move it away"
        ) from error
    try:
        return _rules(secrets)
    except re.error as error:
        raise SettingsError(f"{own}: a pattern is none ({error}); mend it") from error


def mask_secrets(command_line: list[str], rules: Rules | None = None) -> list[str]:
    """Return the arguments with every value that looks like a secret replaced by ``[masked]``."""
    rules = rules or load_rules()
    masked: list[str] = []
    value_follows = False
    for argument in command_line:
        if value_follows and not argument.startswith("-"):
            masked.append(MASK)
        else:
            masked.append(_mask_within(argument, rules))
        value_follows = bool(rules.value_follows.match(argument))
    return masked


def mask_text(command: str, rules: Rules | None = None) -> str:
    """Return a command written as one text, such as a job's, with its secrets masked."""
    return " ".join(mask_secrets(command.split(" "), rules))


def _rules(secrets: Secrets) -> Rules:
    name = rf"(?:[\w.-]*[_.-])?(?:{'|'.join(secrets.names)})(?:[_-]?(?:value|id))?"
    named = re.compile(
        rf"(?P<keep>(?:^|[\s;,&?\"'{{-])-{{0,2}}{name}[\"']?\s*[=:]\s*)"
        r"(?P<hide>(?:Bearer\s+|Basic\s+)?[^\s&;,]+)", re.I)  # fmt: skip
    shapes = (
        re.compile(f"(?P<keep>{shape.keep})(?P<hide>{shape.hide})") for shape in secrets.shapes
    )
    return Rules(re.compile(rf"--?{name}\Z", re.I), (*shapes, named))


def _mask_within(argument: str, rules: Rules) -> str:
    for rule in rules.within:
        argument = rule.sub(lambda match: match["keep"] + MASK, argument)
    return argument
