"""A visit to what a recorder records: the screen follows its ring from segment to segment.

A recorder that runs already is looked at and left alone. Else one runs for as long as the screen.
"""

import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

from dunmist.desk.visit import LOG, Visit, VisitOptions
from dunmist.recorder import read_segments

# "just now" means the time that a report covers
REPORTED_S = 600.0
SEGMENT_NAME = "segment-{:06}.jsonl.gz"
# whether a recorder runs is asked no more often than this
ASKED_S = 2.0


def recorder_words(
    every_s: float, keep_s: float, most_bytes: int, duration_s: float | None
) -> list[str]:
    """Return the command that records without a screen."""
    words = ["watch", "run", "--every", f"{every_s:g}s", "--keep", f"{keep_s:g}s"]
    words += ["--most", str(most_bytes)]
    return words if duration_s is None else [*words, "--for", f"{duration_s:g}s"]


class RecorderVisit(Visit):
    """Follows the ring at ``ring``.

    ``words`` begin a recorder; None looks at one that runs, as ``is_recorded`` tells.
    """

    def __init__(
        self,
        options: VisitOptions,
        ring: Path,
        words: list[str] | None,
        is_recorded: Callable[[], bool],
    ) -> None:
        super().__init__(options)
        self._ring = ring
        self._recorder_words = words
        self._is_recorded = is_recorded
        self._runs, self._asked_s = True, time.monotonic()
        self._before = _newest(ring)

    def _begin(self) -> None:
        if self._recorder_words is None:
            self.path = self.newest()
            return
        self.path = self._segment(self._before + 1)
        self._start([*self._recorder_words, *self.options.target])

    @property
    def is_sampling(self) -> bool:
        """Whether there is more to come."""
        if self._recorder_words is not None:
            return super().is_sampling
        if time.monotonic() >= self._asked_s + ASKED_S:
            self._runs, self._asked_s = self._is_recorded(), time.monotonic()
        return self._runs

    def newest(self) -> Path:
        """Return the segment that is written now."""
        number = _newest(self._ring)
        if self._recorder_words is not None:
            number = max(number, self._before + 1)
        return self._segment(number)

    def _segment(self, number: int) -> Path:
        return self._ring / SEGMENT_NAME.format(number)

    def news(self) -> str:
        """Return the last line that the recorder said, as an incident."""
        log = self.options.folder / LOG
        lines = log.read_text("utf-8", "replace").splitlines() if log.exists() else []
        return lines[-1] if lines else ""

    @property
    def asks_first(self) -> bool:
        """Whether to ask what is complained of: who records waits for it."""
        return False

    @property
    def state(self) -> str:
        """Return in a word what is done with the computer."""
        return "recorded"

    @property
    def has_pace(self) -> bool:
        """Whether the pace can be changed: a viewer leaves a long recording alone."""
        return False

    def for_report(self) -> Path:
        """Return the last minutes, cut out of the ring."""
        path = self.kept("recorded.jsonl.gz")
        since = datetime.now().astimezone() - timedelta(seconds=REPORTED_S)
        words = ["watch", "recall", f"{since:%Y-%m-%dT%H:%M:%S}", "-o", str(path), "--force"]
        child = self.run(*words)
        child.communicate()
        return path if child.returncode == 0 else self.path

    def kept_text(self) -> str:
        """Return the sentence on the kept files."""
        goes_on = "the recorder goes on; " if self._recorder_words is None else ""
        return f"{goes_on}what was recorded stays: dunmist watch list"


def _newest(ring: Path) -> int:
    segments = read_segments(ring)
    return segments[-1].number if segments else 0
