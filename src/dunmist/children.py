"""Start every child process of this program.

Python reads code from the current directory and from ``PYTHON*`` variables; as administrator that
would be somebody else's code. A child gets the absolute interpreter with ``-E -P``, no ``PYTHON*``
variable, ``/`` as working directory and no descriptor besides its standard ones. It is not ``-I``,
which would hide the packages that a user installed for themselves.
"""

import os
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import IO

# ignore PYTHON* variables, and read nothing from the current directory (Python 3.11)
SAFE_FLAGS = ("-E", "-P")
# for a script that imports nothing but the standard library: nobody's packages, no site module
ISOLATED_FLAGS = ("-I", "-S")
NEUTRAL_DIRECTORY = "/"
PREFIX, SAFE_PATH = "PYTHON", "PYTHONSAFEPATH"
Stream = int | IO[bytes] | None


def python_command(*arguments: str, isolated: bool = False) -> list[str]:
    """Return the command that runs this interpreter without reading the current directory."""
    flags = ISOLATED_FLAGS if isolated else SAFE_FLAGS
    return [os.path.abspath(sys.executable), *flags, *arguments]  # noqa: PTH100 - links stay


def clean_environment() -> dict[str, str]:
    """Return the environment without the variables that Python reads."""
    return {name: value for name, value in os.environ.items() if not name.startswith(PREFIX)}


def find_program(name: str) -> str | None:
    """Return the absolute path of a program, looked for in absolute directories of PATH only."""
    # it loads three compressors, which a capture has no use for
    import shutil

    directories = [part for part in os.get_exec_path() if os.path.isabs(part)]  # noqa: PTH117
    return shutil.which(name, path=os.pathsep.join(directories))


def start_child(
    command: Sequence[str],
    *,
    stdin: Stream = subprocess.DEVNULL,
    stdout: Stream = subprocess.DEVNULL,
    stderr: Stream = subprocess.DEVNULL,
    own_session: bool = False,
    buffered: bool = True,
    executable: str | None = None,
) -> "subprocess.Popen[bytes]":
    """Start a program, given by its absolute path; raises OSError.

    With ``executable`` that is the program, and the command begins with any name.
    """
    return subprocess.Popen(  # noqa: S603 - no shell, and every caller gives a fixed program
        command,
        executable=executable,
        stdin=stdin,
        stdout=stdout,
        stderr=stderr,
        start_new_session=own_session,
        cwd=NEUTRAL_DIRECTORY,
        env=clean_environment(),
        close_fds=True,
        bufsize=-1 if buffered else 0,
    )


@contextmanager
def safe_spawning() -> Iterator[None]:
    """Have children that a library starts read nothing from the current directory either.

    For ``multiprocessing``, which builds its own command lines from the environment.
    """
    before = {name: value for name, value in os.environ.items() if name.startswith(PREFIX)}
    for name in before:
        del os.environ[name]
    os.environ[SAFE_PATH] = "1"
    try:
        yield
    finally:
        del os.environ[SAFE_PATH]
        os.environ.update(before)
