"""The error of every parser in this room, and how the kernel's bytes become text and numbers.

Everything a computer publishes is hostile: a name may hold any byte but NUL, a file may be cut
short. A parser takes bytes and either returns its record or raises ``ParseError``.
"""


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
