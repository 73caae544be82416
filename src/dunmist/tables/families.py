"""Topic ``processes``: each process below its parent, and what each family used together."""

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from dunmist.advice import Judged
from dunmist.series import Process
from dunmist.tables.declared import Column, Table, Width
from dunmist.tables.processes import OneProcess, processes_of
from dunmist.tables.shared_columns import (
    COMMAND_LINE,
    CORES_MEAN,
    PID,
    PRIVATE_BYTES,
    STATE,
    UNIT,
    USER,
)


class Member(NamedTuple):
    """One process of a tree, with the use of it and its descendants."""

    one: OneProcess
    depth: int
    family_cores: float
    family_bytes: float


def _families(judged: Judged) -> Iterator[Member]:
    """Yield the living processes as a family tree, the family with the greatest use first."""
    records = {one.process: one for one in processes_of(judged, judged.series.living.values())}
    tops = [process for process in records if process.parent not in records]
    order = _downwards(tops, records.keys())
    sums: dict[Process, tuple[float, float]] = {}
    for process in reversed(order):
        below = [sums[child] for child in process.children if child in sums]
        one = records[process]
        sums[process] = (
            one.cores_mean + sum(cores for cores, _ in below),
            one.private_bytes + sum(held for _, held in below),
        )
    depth: dict[Process, int] = {}
    for process in _downwards(tops, records.keys(), sums):
        depth[process] = depth[process.parent] + 1 if process.parent in depth else 0
        yield Member(records[process], depth[process], *sums[process])


FAMILY: Table[Member] = Table(
    "family",
    "each process below its parent (`--tree`), the family with the greatest use first",
    (
        Column("family", "text", "program, indented below its parent",
            lambda row: "  " * row.depth + row.one.process.name, width=Width(36),
            answers=("name",)),
        PID.of(lambda row: row.one.process.pid),
        Column("depth", "number", "generations below the first"),
        USER.of(lambda row: row.one.facts.user),
        STATE.of(lambda row: row.one.state),
        CORES_MEAN.of(lambda row: row.one.cores_mean),
        Column("family_cores", "cores", "of a process and all its descendants"),
        PRIVATE_BYTES.of(lambda row: row.one.private_bytes),
        Column("family_bytes", "bytes", "of a process and all its descendants",
            title="family memory"),
        UNIT.of(lambda row: row.one.process.unit),
        COMMAND_LINE.of(lambda row: row.one.command_line),
    ),
    _families,
    shown=("family", "pid", "user", "state", "family_cores", "cores_mean", "family_bytes",
        "private_bytes", "command_line"),
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
