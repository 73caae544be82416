"""A question that may not be answered for hours, asked by a process that can be left to itself."""

import subprocess
import sys
import time
from collections.abc import Mapping, Sequence

DEADLINE_S = 2.0


def ask_children(questions: Mapping[str, Sequence[str]]) -> dict[str, bytes | None]:
    """Ask several questions at once, each by an isolated Python with the given arguments.

    Returns what each printed; None for one that did not end within two seconds. It may not die
    before it is answered, so nobody waits for it.
    """
    children = {
        name: subprocess.Popen(
            [sys.executable, "-I", "-S", *arguments],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        for name, arguments in questions.items()
    }
    until_s = time.monotonic() + DEADLINE_S
    return {name: _answer(child, until_s) for name, child in children.items()}


def _answer(child: "subprocess.Popen[bytes]", until_s: float) -> bytes | None:
    try:
        return child.communicate(timeout=max(0.0, until_s - time.monotonic()))[0]
    except subprocess.TimeoutExpired:
        child.kill()
        child.returncode = 0
        if child.stdout:
            child.stdout.close()
        return None
