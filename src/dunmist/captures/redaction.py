"""Masks secrets in command lines before they reach a file.

The rules are the three tables below: names whose value is secret, shapes that are secret wherever
they stand, and how much of an argument is kept. Masking errs on the side of hiding.
"""

import re

MASK = "[masked]"

SECRET_NAME = (
    r"(?:[\w.-]*[_.-])?(?:pass(?:wd|word|phrase|code)?|pwd|secret|token|credentials?|"
    r"api[_-]?key|access[_-]?key|private[_-]?key|auth[_-]?key|secret[_-]?key|"
    r"client[_-]?secret|cookie|session[_-]?key|authorization|bearer)(?:[_-]?(?:value|id))?"
)
NAMES_VALUE_FOLLOWS = re.compile(rf"--?{SECRET_NAME}\Z", re.I)
NAMED_VALUE = re.compile(rf"(?P<keep>(?:^|[\s;,&?\"'{{-])-{{0,2}}{SECRET_NAME}[\"']?\s*[=:]\s*)"
                         r"(?P<hide>(?:Bearer\s+|Basic\s+)?[^\s&;,]+)", re.I)  # fmt: skip
SHAPES = (
    re.compile(r"(?P<keep>[a-z][a-z0-9+.-]{0,20}://[^\s/:@]*:)(?P<hide>[^\s/]+)(?=@)", re.I),
    re.compile(r"(?P<keep>\b(?:Bearer|Basic)\s+)(?P<hide>[\w.~+/=-]{8,})", re.I),
    re.compile(r"(?P<keep>)(?P<hide>\beyJ[\w-]{4,}\.[\w-]{4,}\.[\w-]*)"),
    re.compile(r"(?P<keep>)(?P<hide>-----BEGIN [A-Z ]*PRIVATE KEY-----.*)", re.S),
    re.compile(
        r"(?P<keep>)(?P<hide>(?<![\w/.+-])(?=[\w+-]*[0-9])(?=[\w+-]*[a-z])(?=[\w+-]*[A-Z])"
        r"[\w+-]{32,}={0,2}(?![\w/.]))"
    ),
)


def mask_secrets(command_line: list[str]) -> list[str]:
    """Return the arguments with every value that looks like a secret replaced by ``[masked]``."""
    masked: list[str] = []
    value_follows = False
    for argument in command_line:
        if value_follows and not argument.startswith("-"):
            masked.append(MASK)
        else:
            masked.append(_mask_within(argument))
        value_follows = bool(NAMES_VALUE_FOLLOWS.match(argument))
    return masked


def mask_text(command: str) -> str:
    """Return a command written as one text, such as a job's, with its secrets masked."""
    return " ".join(mask_secrets(command.split(" ")))


def _mask_within(argument: str) -> str:
    for rule in (*SHAPES, NAMED_VALUE):
        argument = rule.sub(lambda match: match["keep"] + MASK, argument)
    return argument
