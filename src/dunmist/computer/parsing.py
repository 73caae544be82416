"""The error of every parser in this room, and how the kernel's bytes become text and numbers.

Everything a computer publishes is hostile: a name may hold any byte but NUL, a file may be cut
short. A parser takes bytes and either returns its record or raises ``ParseError``.
"""

import re
from typing import Annotated

from msgspec import Meta

# bounds of a record; a capture beyond them is refused when it is read
COUNTER_MAX = 2**63 - 1
Counter = Annotated[int, Meta(ge=0, le=COUNTER_MAX)]
# processes, threads and sockets of one capture are numbered from 0; the kernel's own numbers end
# at PID_MAX_LIMIT (include/linux/threads.h)
Identity = Annotated[int, Meta(ge=0, le=9_999_999)]
# PID_MAX_LIMIT, include/linux/threads.h
PROCESS_NUMBER_MAX = 2**22
ProcessNumber = Annotated[int, Meta(ge=0, le=PROCESS_NUMBER_MAX)]
# setpriority(2); the greatest number of CPUs is CONFIG_NR_CPUS, -1 is 'not published'
NICE_LEAST, NICE_MOST, PROCESSORS_MOST = -20, 19, 8191
Nice = Annotated[int, Meta(ge=NICE_LEAST, le=NICE_MOST)]
ProcessorNumber = Annotated[int, Meta(ge=-1, le=PROCESSORS_MOST)]

_NUMBER = re.compile(rb"\s*(-?\d{1,19})\s*\Z")
_LIMIT = re.compile(rb"\s*(?:(\d{1,19})|max)\s*\Z")


class ParseError(ValueError):
    """A file does not have the form its documentation gives; says which, where and what."""

    def __init__(self, source: str, what: str, content: bytes) -> None:
        super().__init__(f"{source}: {what}, found {content[:60]!r}")


def text_of(data: bytes) -> str:
    r"""Return bytes as text; a byte that is no UTF-8 becomes its ``\xNN`` form."""
    return data.decode("utf-8", "backslashreplace")


def lines_of(data: bytes) -> list[bytes]:
    r"""Return the lines of a kernel's file, which end in ``\n`` alone: names may hold ``\r``."""
    lines = data.split(b"\n")
    return lines if lines[-1] else lines[:-1]


def counter_of(field: bytes, source: str, what: str) -> int:
    """Return a counter, which is never negative; raises ParseError."""
    if not field.isdigit() or len(field) > 20 or int(field) > COUNTER_MAX:
        raise ParseError(source, f"{what} is no counter", field)
    return int(field)


def count_of(digits: bytes, source: str) -> int:
    """Return a counter whose digits were matched already; raises ParseError beyond 64 bits."""
    number = int(digits)
    if number > COUNTER_MAX:
        raise ParseError(source, "expected a counter", digits)
    return number


def parse_counter(data: bytes) -> int:
    """Return the one counter of a sysfs file; raises ParseError."""
    return counter_of(data.strip(), "sysfs", "what was read")


def parse_limit(data: bytes, source: str) -> int | None:
    """Return the limit of a control group, None for 'max'; raises ParseError."""
    match = _LIMIT.match(data)
    if match is None:
        raise ParseError(source, "expected a number or 'max'", data)
    return count_of(match[1], source) if match[1] else None


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
