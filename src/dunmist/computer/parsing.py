"""The error of every parser in this room, and how the kernel's bytes become text and numbers.

Everything a computer publishes is hostile: a name may hold any byte but NUL, a file may be cut
short. A parser takes bytes and either returns its record or raises ``ParseError``.
"""

import re

_NUMBER = re.compile(rb"\s*(-?\d{1,19})\s*\Z")


class ParseError(ValueError):
    """A file does not have the form its documentation gives; says which, where and what."""

    def __init__(self, source: str, what: str, found: bytes) -> None:
        super().__init__(f"{source}: {what}, found {found[:60]!r}")


def text_of(data: bytes) -> str:
    r"""Return bytes as text; a byte that is no UTF-8 becomes its ``\xNN`` form."""
    return data.decode("utf-8", "backslashreplace")


def counter_of(field: bytes, source: str, what: str) -> int:
    """Return a counter, which is never negative; raises ParseError."""
    if not field.isdigit() or len(field) > 20:
        raise ParseError(source, f"{what} is no counter", field)
    return int(field)


def parse_number(data: bytes) -> int:
    """Return the one number of a sysfs file, which may be negative; raises ParseError."""
    match = _NUMBER.match(data)
    if not match:
        raise ParseError("sysfs", "expected a number", data)
    return int(match[1])


def parse_text(data: bytes) -> str:
    """Return the one text of a sysfs file without its padding; raises ParseError."""
    text = text_of(data.strip(b" \t\n\0"))
    if not text:
        raise ParseError("sysfs", "expected a text", data)
    return text
