"""Topic ``processes``: who started whom, and what each family used together."""

from collections.abc import Iterable, Iterator, Mapping

from dunmist.advice import Judged
from dunmist.series import Process
from dunmist.tables.declared import Column, Row, Table, Width
from dunmist.tables.processes import process_rows
from dunmist.tables.shared_columns import (
    COMMAND_LINE,
    CORES_MEAN,
    PID,
    PRIVATE_BYTES,
    STATE,
    UNIT,
    USER,
)


def _families(judged: Judged) -> Iterator[Row]:
    """Yield the living processes as a family tree, the family with the greatest use first."""
    living = [process for process in judged.series.living.values() if process.last is not None]
    rows = dict(zip(living, process_rows(judged, living), strict=True))
    tops = [process for process in rows if process.parent not in rows]
    order = _downwards(tops, rows.keys())
    sums: dict[Process, tuple[float, float]] = {}
    for process in reversed(order):
        below = [sums[child] for child in process.children if child in sums]
        row = rows[process]
        sums[process] = (
            float(str(row["cores_mean"])) + sum(cores for cores, _ in below),
            float(str(row["private_bytes"])) + sum(held for _, held in below),
        )
    depth: dict[Process, int] = {}
    for process in _downwards(tops, rows.keys(), sums):
        row = rows[process]
        depth[process] = depth[process.parent] + 1 if process.parent in depth else 0
        yield {
            "family": "  " * depth[process] + process.name,
            "depth": depth[process],
            "family_cores": sums[process][0],
            "family_bytes": sums[process][1],
            **{
                name: row[name]
                for name in (
                    "pid",
                    "user",
                    "state",
                    "cores_mean",
                    "private_bytes",
                    "unit",
                    "command_line",
                )
            },
        }


FAMILY = Table(
    "family",
    "who started whom (`--tree`), the family with the greatest use first",
    (
        Column("family", "text", "program, indented below its parent", Width(36), ("name",)),
        PID,
        Column("depth", "number", "generations below the first"),
        USER,
        STATE,
        CORES_MEAN,
        Column("family_cores", "cores", "of a process and all its descendants"),
        PRIVATE_BYTES,
        Column(
            "family_bytes", "bytes", "of a process and all its descendants", title="family memory"
        ),
        UNIT,
        COMMAND_LINE,
    ),
    _families,
    shown=(
        "family",
        "pid",
        "user",
        "state",
        "family_cores",
        "cores_mean",
        "family_bytes",
        "private_bytes",
        "command_line",
    ),
)


def _downwards(
    tops: list[Process],
    among: Iterable[Process],
    sums: Mapping[Process, tuple[float, float]] | None = None,
) -> list[Process]:
    """Return all below the given ones, each after its parent and next to its family."""
    there = set(among)

    def in_order(family: Iterable[Process]) -> list[Process]:
        known = [process for process in family if process in there]
        return sorted(known, key=lambda application: -sums[application][0]) if sums else known

    order: list[Process] = []
    waiting = list(reversed(in_order(tops)))
    seen = set(tops)
    while waiting:
        process = waiting.pop()
        order.append(process)
        # a parent number that was given away again could close a circle
        children = [child for child in in_order(process.children) if child not in seen]
        seen.update(children)
        waiting += reversed(children)
    return order
