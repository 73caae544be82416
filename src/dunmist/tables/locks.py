"""File locks: who waits for whom."""

from collections.abc import Iterator

from dunmist.advice import Judged
from dunmist.tables.declared import Column, Row, Table


def lock_rows(judged: Judged, pid: int | None = None) -> Iterator[Row]:
    """Yield the file locks that somebody waits for, or those that concern one process."""
    survey = judged.series.surveyed.last
    for one in survey.locks if survey else []:
        if pid is None or pid in (one.waiter, one.holder):
            yield {"waits": one.waiter, "for_what_holds": one.holder}


LOCKS = Table(
    "locks",
    "file locks that somebody waits for, at the end of the capture",
    (
        Column("waits", "number", "process number of who waits"),
        Column("for_what_holds", "number", "process number of who has it"),
    ),
    lock_rows,
)
