"""Recognize kinds of work by code: the tables ``code.toml`` and ``thread_names.toml``."""

import re
import tomllib
from functools import cache
from importlib.resources import files
from pathlib import PurePosixPath
from typing import Any, NamedTuple

from dunmist.sampling import GENERATED, KERNEL, UNKNOWN

NOTHING = "(?!)"
# after the name that a row has, a version may come, but no other word
AFTER_NAME = r"(?:[^a-z].*)?\Z"
OF_GENERATED = "generated-code"
# a program numbers its threads: 'GC Thread#3', 'pool-2', 'worker_7'
_NUMBERS = re.compile(r"[\s#:_/-]*\d+\)?$")


class CodeKind(NamedTuple):
    """One kind of work, and the patterns by which it is recognised.

    A pattern is compiled when it is first tried: most captures need few of them.
    """

    key: str
    does: str
    files: str  # the beginning of a file's name must match, of the others all of it
    functions: str
    kernel: str
    threads: str


@cache
def code_kinds() -> tuple[CodeKind, ...]:
    """Return all kinds in the order in which they are tried."""
    threads: dict[str, list[str]] = {}
    for row in _table("thread_names.toml")["thread"]:
        threads.setdefault(row["kind"], []).append(row["name"])
    return tuple(_kind(row, threads.get(row["key"], [])) for row in _table("code.toml")["kind"])


def kind_of_code(mapping: str, function: str | None) -> CodeKind | None:
    """Return the kind of work that code is for; None if the tables have none."""
    kinds = code_kinds()
    if mapping == GENERATED:
        return next(kind for kind in kinds if kind.key == OF_GENERATED)
    if mapping == UNKNOWN:
        return None
    if mapping == KERNEL:
        return next((kind for kind in kinds if function and re.match(kind.kernel, function)), None)
    by_function = (kind for kind in kinds if function and re.match(kind.functions, function))
    name = file_name(mapping)
    by_file = (kind for kind in kinds if re.match(kind.files, name))
    return next(by_function, None) or next(by_file, None)


def is_common(mapping: str) -> bool:
    """Whether code lies in a library whose work counts for its caller."""
    return bool(re.match(_common(), file_name(mapping)))


def kind_of_thread(name: str) -> CodeKind | None:
    """Return the kind of work of a thread by its name."""
    return next((kind for kind in code_kinds() if re.match(kind.threads, name)), None)


def file_name(mapping: str) -> str:
    """Return the name of a file without its directory."""
    return PurePosixPath(mapping).name or mapping


def without_number(thread: str) -> str:
    """Return the name that the threads of one kind share."""
    return _NUMBERS.sub("", thread) or thread


@cache
def _common() -> str:
    return _pattern(_table("code.toml")["common"], AFTER_NAME)


def _kind(row: dict[str, Any], threads: list[str]) -> CodeKind:
    return CodeKind(
        key=row["key"],
        does=row["does"],
        files=_pattern(row.get("files", {}), AFTER_NAME),
        functions=_pattern(row.get("functions", {})),
        kernel=_pattern(row.get("kernel", {})),
        threads=_pattern(threads),
    )


def _pattern(rows: "dict[str, str] | list[str]", after: str = r"\Z") -> str:
    return rf"(?:{'|'.join(rows or [NOTHING])}){after}"


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads((files("dunmist.advice") / name).read_text(encoding="utf-8"))
