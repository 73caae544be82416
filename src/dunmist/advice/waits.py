"""Explain kernel functions that a process waits in: the table ``waits.toml``."""

import tomllib
from functools import cache
from importlib.resources import files


@cache
def _beginnings() -> tuple[tuple[str, str], ...]:
    """Return beginnings of names of functions with what they mean, in the order of the table."""
    rows = tomllib.loads((files("dunmist.advice") / "waits.toml").read_text("utf-8"))["wait"]
    return tuple((begin, row["means"]) for row in rows for begin in row["functions"])


def meaning_of_wait(function: str | None) -> str | None:
    """Return the meaning of a wait in a kernel function, None if the table has none."""
    if function is None:
        return None
    return next((means for begin, means in _beginnings() if function.startswith(begin)), None)
