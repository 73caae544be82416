"""Judge a capture while it is sampled, and decide if that is certain enough to stop.

The judgement is another process's, which loads what it needs before sampling begins: it judges
the file so far when asked, and says what it found in one line. It rests in between so that it takes
no more than a twentieth of one CPU. It does not run at idle priority: a computer whose
processors are full would never hear from it.
"""

import json
import os
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import IO, NamedTuple, Self

import msgspec

from dunmist.children import python_command, start_child

# so much of one CPU for judging, after it was loaded
SHARE_MOST = 0.05
# how often the judge is asked; it needs about half a second
LOOK_AGAIN_S = 1.5
# before this a program that starts would be a verdict
FIRST_S = 4.5
READY = "ready"


class InterimVerdict(NamedTuple):
    """Verdict on a capture so far."""

    at_s: float  # after its start
    level: str
    limiting: str | None
    culprit: str | None
    confidence: float
    is_sure: bool  # more would hardly change it
    took_s: float  # of the judging

    def agrees(self, other: "InterimVerdict | None") -> bool:
        """Whether another one says the same."""
        return other is not None and self[1:4] == other[1:4]


class InterimJudge:
    """The judging process of one capture; use it as a context manager."""

    def __init__(self) -> None:
        self._asked = False
        self._rested_s = 0.0
        self._rest = b""

    def __enter__(self) -> Self:
        self._child = start_child(
            python_command("-m", "dunmist.jobs.interim_verdict"),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        # loaded before anything is sampled, so that it is no part of what is sampled
        self._output.readline()
        os.set_blocking(self._output.fileno(), False)
        return self

    def __exit__(self, *_: object) -> None:
        self._child.kill()
        self._child.communicate()

    @property
    def _output(self) -> IO[bytes]:
        assert self._child.stdout is not None  # it is a pipe
        return self._child.stdout

    def tick(self, at_s: float, path: Path) -> InterimVerdict | None:
        """Take a tick that was written; return what is believed, if that is new."""
        tick = self._heard()
        if not self._asked and at_s >= FIRST_S and time.monotonic() >= self._rested_s:
            self._ask(at_s, path)
        return tick

    def _ask(self, at_s: float, path: Path) -> None:
        assert self._child.stdin is not None  # it is a pipe
        # without an answer it is sampled to the end
        self._asked = True
        with suppress(BrokenPipeError):
            self._child.stdin.write(json.dumps([at_s, str(path.absolute())]).encode() + b"\n")
            self._child.stdin.flush()

    def _heard(self) -> InterimVerdict | None:
        with suppress(BlockingIOError):
            self._rest += os.read(self._output.fileno(), 65536)
        line, newline, rest = self._rest.partition(b"\n")
        if not newline:
            return None
        self._rest, self._asked = rest, False
        interim = msgspec.json.decode(line, type=InterimVerdict)
        self._rested_s = time.monotonic() + max(LOOK_AGAIN_S, interim.took_s / SHARE_MOST)
        return interim


def judge_so_far(at_s: float, path: Path, before: InterimVerdict | None) -> InterimVerdict:
    """Return the verdict on a capture so far; ``before`` is the verdict before it.

    What is believed once may be a spike; what is believed twice in a row is not.
    """
    from dunmist.diagnosis import is_decided
    from dunmist.jobs.judge import examined

    began_s = time.process_time()
    exam = examined(path)
    first, limits = (exam.culprits[0] if exam.culprits else None), exam.limits.sure
    interim = InterimVerdict(
        at_s,
        exam.level,
        exam.limiting,
        first.name if first else None,
        exam.confidence,
        is_sure=False,
        took_s=0.0,
    )
    is_sure = (
        at_s >= limits.least_s
        and interim.agrees(before)
        and (first is None or exam.confidence >= limits.confidence_least)
        and is_decided(exam)
    )
    return interim._replace(is_sure=is_sure, took_s=time.process_time() - began_s)


def _serve() -> None:
    """Judge each capture named on standard input until that ends."""
    from dunmist.errors import DunmistError
    from dunmist.jobs import judge

    del judge  # loads the modules that the judgement needs
    _answer(READY)
    interim: InterimVerdict | None = None
    for line in sys.stdin:
        at_s, path = json.loads(line)
        try:
            interim = judge_so_far(float(at_s), Path(path), interim)
        except DunmistError:
            return  # then it is sampled to the end, and the final judgement reports the error
        _answer(msgspec.json.encode(interim).decode())


def _answer(text: str) -> None:
    sys.stdout.write(f"{text}\n")
    sys.stdout.flush()


if __name__ == "__main__":
    _serve()
