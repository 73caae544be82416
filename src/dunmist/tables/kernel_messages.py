"""Topic ``complaints``: what the kernel complained of since the computer started."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.tables.declared import Column, Row, Table, Width


def _complaints(judged: Judged) -> Iterator[Row]:
    end_s = judged.series.duration_s
    for complaint in judged.series.complaints:
        if complaint.kind == "device-came":
            continue  # a change, and none to complain of
        yield {
            "kind": complaint.kind.replace("-", " "),
            "about": complaint.about,
            "count": complaint.times,
            "during": complaint.during,
            "first_ago_s": round(max(0.0, end_s - complaint.first_s), 3),
            "last_ago_s": round(max(0.0, end_s - complaint.last_s), 3),
            "pid": complaint.pid,
            "line": complaint.text,
        }


COMPLAINTS = Table(
    "complaints",
    "of the kernel's log, the newest first",
    (
        Column("kind", "text", "its class", answers=("state",)),
        Column("about", "text", "the device or program that it names", Width(), ("name",)),
        Column("count", "number", "how many such lines since the computer started"),
        Column("during", "number", "how many of them during the capture"),
        Column(
            "first_ago_s",
            "s",
            "how long before the end of the capture the first was",
            title="first, ago",
        ),
        Column("last_ago_s", "s", "how long before it the newest was", title="last, ago"),
        Column("pid", "number", "process number that it names", answers=("pid",)),
        Column("line", "text", "the newest line, addresses left out", Width(30, 120)),
    ),
    _complaints,
    shown=("kind", "about", "count", "last_ago_s", "during", "line"),
)
