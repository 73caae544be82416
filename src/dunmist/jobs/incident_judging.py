"""Judges what was kept in a process of its own at idle priority, one after the other.

The recorder must stay light: NumPy is loaded by the child, which gives way to everybody, and which
says in its own JSON what it found.
"""

import logging
import os
import re
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, NamedTuple

import msgspec

from dunmist.children import python_command, start_child

_LOG = logging.getLogger(__name__)
# an incident builds up in its last half minute
LAST_S = 30.0
NUMBER = re.compile(r"incident-(\d+)\.")
NOTES = "note"


class Verdict(NamedTuple):
    """Verdict on an incident; ``findings`` are the kinds that are more than notes."""

    number: int
    level: str
    limiting: str | None
    headline: str
    culprit: str | None
    findings: list[str]


class Judging:
    """The captures that wait to be judged, and the one that is."""

    def __init__(self) -> None:
        self._waiting: list[Path] = []
        self._running: tuple[Path, subprocess.Popen[bytes], IO[bytes]] | None = None

    def add(self, path: Path | None) -> None:
        """Take a capture, if there is one."""
        if path is not None:
            self._waiting.append(path)
        self._go_on()

    def done(self) -> Iterator[Verdict]:
        """Yield finished judgements, without waiting."""
        if self._running is None or self._running[1].poll() is None:
            return
        yield from self._ended()

    def rest(self) -> Iterator[Verdict]:
        """Yield the remaining judgements at the end; one that takes too long is abandoned."""
        while self._running is not None:
            # a person waits now, and with full CPUs an idle task would never end
            with suppress(OSError):
                os.sched_setscheduler(self._running[1].pid, os.SCHED_OTHER, os.sched_param(0))
            try:
                self._running[1].wait(LAST_S)
            except subprocess.TimeoutExpired:
                self._running[1].kill()
                self._running[1].wait()
            yield from self._ended()

    def _ended(self) -> Iterator[Verdict]:
        assert self._running is not None  # the caller has checked
        path, process, answer = self._running
        self._running = None
        with answer:
            answer.seek(0)
            text = answer.read()
        try:
            yield _verdict(path, msgspec.json.decode(text))
        except (msgspec.DecodeError, KeyError, TypeError) as error:
            _LOG.warning("%s: was not judged (%s, status %s)", path, error, process.returncode)
        self._go_on()

    def _go_on(self) -> None:
        if self._running is not None or not self._waiting:
            return
        path = self._waiting.pop(0)
        answer = tempfile.TemporaryFile()  # noqa: SIM115 - it is read when the child has ended
        command = python_command("-m", "dunmist", "triage", str(path.absolute()), "--json")
        process = start_child(command, stdout=answer)
        os.sched_setscheduler(process.pid, os.SCHED_IDLE, os.sched_param(0))
        self._running = path, process, answer


def judged_apart(first: Path | None) -> Judging:
    """Return a judge in a process of its own, which begins with a capture that exists already."""
    judging = Judging()
    judging.add(first)
    return judging


def _verdict(path: Path, triage: dict[str, Any]) -> Verdict:
    verdict, culprits = triage["verdict"], triage["culprits"]
    grave = [finding for finding in triage["findings"] if finding["severity"] != NOTES]
    # if nothing limited it, it was kept for its gravest finding
    is_of_finding = verdict["limiting"] is None and grave
    number = NUMBER.search(path.name)
    return Verdict(
        number=int(number[1]) if number else 0,
        level=verdict["level"],
        limiting=verdict["limiting"],
        headline=grave[0]["text"] if is_of_finding else verdict["headline"],
        culprit=culprits[0]["name"] if culprits else None,
        findings=[finding["kind"] for finding in grave],
    )
