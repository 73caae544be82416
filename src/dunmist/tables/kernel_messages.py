"""Topic ``complaints``: what the kernel complained of since the computer started."""

from collections.abc import Iterator
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.series import KernelMessageSeries
from dunmist.tables.declared import Column, Table, Width


class Logged(NamedTuple):
    """Kernel messages of one kind, and the end of the capture."""

    complaint: KernelMessageSeries
    end_s: float

    def ago_s(self, at_s: float) -> float:
        """Return the time from a timestamp to the end of the capture."""
        return round(max(0.0, self.end_s - at_s), 3)


def _complaints(judged: Judged) -> Iterator[Logged]:
    for complaint in judged.series.complaints:
        # a device that came is a change, and nothing to complain of
        if complaint.kind != "device-came":
            yield Logged(complaint, judged.series.duration_s)


COMPLAINTS: Table[Logged] = Table(
    "complaints",
    "of the kernel's log, the newest first",
    (
        Column("kind", "text", "its class", lambda row: row.complaint.kind.replace("-", " "),
            answers=("state",)),
        Column("about", "text", "the device or program that it names",
            lambda row: row.complaint.about, width=Width(), answers=("name",)),
        Column("count", "number", "how many such lines since the computer started",
            lambda row: row.complaint.times),
        Column("during", "number", "how many of them during the capture",
            lambda row: row.complaint.during),
        Column("first_ago_s", "s", "how long before the end of the capture the first was",
            lambda row: row.ago_s(row.complaint.first_s), title="first, ago"),
        Column("last_ago_s", "s", "how long before it the newest was",
            lambda row: row.ago_s(row.complaint.last_s), title="last, ago"),
        Column("pid", "number", "process number that it names", lambda row: row.complaint.pid,
            answers=("pid",)),
        Column("line", "text", "the newest line, addresses left out",
            lambda row: row.complaint.text, width=Width(30, 120)),
    ),
    _complaints,
    shown=("kind", "about", "count", "last_ago_s", "during", "line"),
)
