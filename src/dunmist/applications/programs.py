"""Name the program of a process; for an interpreter that is its script."""

import posixpath
import re
from typing import NamedTuple

from dunmist.applications.launchers import INTERPRETERS, LAUNCHERS, SHELLS, Interpreter
from dunmist.computer import DELETED, ProcessFacts

COMM_MAX = 15  # the kernel keeps this much of a command name
STANDARD_INPUT = "-"
IS_STANDARD_INPUT = frozenset((STANDARD_INPUT, "/dev/stdin", "/dev/fd/0", "/proc/self/fd/0"))
NAMELESS = re.compile(r"(?:/dev/stdin|/(?:dev|proc/(?:self|\d+))/fd/\d+)\Z")


class Program(NamedTuple):
    """``key`` is equal for processes that run the same program; ``name`` is for people.

    ``script`` is what an interpreter runs, None for a program of its own.
    """

    key: str
    name: str
    launches: bool
    script: str | None = None


def program_of(facts: ProcessFacts) -> Program:
    """Return the program that a process runs."""
    if facts.kernel:
        kind = facts.name.partition("/")[0]
        return Program(f"kernel:{kind}", f"kernel task {kind}", launches=False)
    path = (facts.executable or _first(facts.command_line) or facts.name).removesuffix(DELETED)
    file = posixpath.basename(path) or facts.name
    interpreter = next(
        (candidate for candidate in INTERPRETERS if candidate.file.match(file)), None
    )
    if interpreter is None:
        launches = file in LAUNCHERS or facts.name in LAUNCHERS or facts.pid == 1
        return Program(path, _full_name(facts.name, file, facts.command_line), launches=launches)
    script = _script(facts.command_line[1:], interpreter)
    if script == STANDARD_INPUT:
        script = facts.input
    # a program from a pipe or a descriptor has no name of its own
    if script is None or NAMELESS.match(script):
        return Program(path, file, launches=file in SHELLS)
    name = posixpath.basename(script) or script
    return Program(f"{file} {script}", name, launches=False, script=script)


def is_shell(facts: ProcessFacts) -> bool:
    """Whether a process is a shell that a person types into, not one that runs a script."""
    file = posixpath.basename((facts.executable or facts.name).removesuffix(DELETED))
    return file in SHELLS and facts.tty > 0 and facts.pid == facts.session


def _first(command_line: list[str]) -> str:
    return command_line[0].partition(" ")[0] if command_line else ""


def _full_name(comm: str, file: str, command_line: list[str]) -> str:
    # a program may rename itself; a name cut off by the kernel is completed from its file
    if file.startswith(comm) and len(comm) >= COMM_MAX:
        return file
    called = posixpath.basename(_first(command_line))
    if called.startswith(comm) and len(comm) >= COMM_MAX:
        return called
    return comm


def _script(arguments: list[str], interpreter: Interpreter) -> str | None:
    """Return the script of an interpreter, ``STANDARD_INPUT`` for that, None for inline text."""
    position = 0
    while position < len(arguments):
        argument = arguments[position]
        if argument in interpreter.inline:
            return None
        if argument in interpreter.from_input or argument in IS_STANDARD_INPUT:
            return STANDARD_INPUT
        if argument in interpreter.naming:
            return arguments[position + 1] if position + 1 < len(arguments) else None
        if argument and not argument.startswith(("-", "+")):
            return argument
        position += 2 if argument in interpreter.with_value else 1
    return STANDARD_INPUT
