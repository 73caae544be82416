"""Topic ``complaints``: what the kernel complained of since the computer started."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.tables.declared import Column, Row, Table, Width


def _complaints(judged: Judged) -> Iterator[Row]:
    for one in judged.series.complaints:
        yield {
            "kind": one.kind.replace("-", " "),
            "about": one.about,
            "count": one.times,
            "during": one.during,
            "first_at_s": round(one.first_s, 3),
            "last_at_s": round(one.last_s, 3),
            "pid": one.pid,
            "line": one.text,
        }


COMPLAINTS = Table(
    "complaints",
    "of the kernel's log, the newest first",
    (
        Column("kind", "text", "its class", answers=("state",)),
        Column("about", "text", "the device or program that it names", Width(), ("name",)),
        Column("count", "number", "how many such lines since the computer started"),
        Column("during", "number", "how many of them during the capture"),
        Column("first_at_s", "at", "the first, since the first tick; below nought is before it",
               title="first"),
        Column("last_at_s", "at", "the newest", title="last"),
        Column("pid", "number", "process number that it names", answers=("pid",)),
        Column("line", "text", "the newest line, addresses left out", Width(30, 120)),
    ),
    _complaints,
    shown=("kind", "about", "count", "last_at_s", "during", "line"),
)  # fmt: skip
