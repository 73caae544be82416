"""Kinds of parts that an application of many processes has, and which of them takes most.

A browser, a database or a server gives each of its processes a part, and says in the command line
which. The table of patterns is ``parts.toml``.
"""

import re
import tomllib
from collections import defaultdict
from collections.abc import Iterator
from functools import cache
from importlib.resources import files
from typing import NamedTuple

from dunmist.advice.amounts import percent
from dunmist.advice.evidence import rounded
from dunmist.advice.triage import Doing
from dunmist.advice.wording import wording
from dunmist.diagnosis import Thresholds
from dunmist.series import Application, Process

SOURCE = "/proc/PID/cmdline, /proc/PID/stat"
# of fewer processes people need no kinds
PROCESSES_LEAST = 3
# parts of one kind that take as much are what keeps the whole busy
MOST_SHARE = 0.5


class PartKind(NamedTuple):
    """One kind of part, and the command lines that it has."""

    kind: str
    pattern: re.Pattern[str]


@cache
def part_kinds() -> tuple[PartKind, ...]:
    """Return all kinds in the order in which they are tried."""
    text = (files("dunmist.advice") / "parts.toml").read_text(encoding="utf-8")
    rows = tomllib.loads(text)["part"]
    return tuple(PartKind(row["kind"], re.compile(row["pattern"])) for row in rows)


def kind_of_part(process: Process) -> str | None:
    """Return the part of its application that a process is; None if the table has none."""
    line = " ".join(process.facts.command_line)
    return next((part.kind for part in part_kinds() if part.pattern.search(line)), None)


def doing_of_parts(application: Application, limits: Thresholds) -> Iterator[Doing]:
    """Yield the kinds of parts that take most of the CPU time, each with its busiest process."""
    living = application.living
    if len(living) < PROCESSES_LEAST or application.starts_generations:
        return
    by_kind: defaultdict[str, list[Process]] = defaultdict(list)
    for process in living:
        kind = kind_of_part(process)
        if kind is not None:
            by_kind[kind].append(process)
    used_s = {kind: sum(process.cpu_s for process in parts) for kind, parts in by_kind.items()}
    whole_s = sum(process.cpu_s for process in application.members)
    if not whole_s:
        return
    words = wording()["doing"]
    for kind in sorted(used_s, key=lambda kind: -used_s[kind])[: int(limits.code.shown_most)]:
        share = used_s[kind] / whole_s
        if share < limits.code.share_least:
            return
        busiest = max(by_kind[kind], key=lambda process: process.cpu_s)
        yield Doing(
            what="part",
            name=kind,
            share=rounded(share),
            value=float(busiest.pid),
            unit="process number",
            text=words["parts"].format(
                share=percent(share),
                kind=kind,
                count=len(by_kind[kind]),
                pid=busiest.pid,
                cores=f"{busiest.cores.mean():.2f}",
            ),
            source=SOURCE,
        )


def part_words(doing: list[Doing]) -> dict[str, str]:
    """Return ``part-`` and the kind of the parts that take most, with the busiest of them."""
    return {
        f"part-{item.name.replace(' ', '-')}": f"{item.value:.0f}"
        for item in doing
        if item.what == "part" and item.source == SOURCE and (item.share or 0.0) >= MOST_SHARE
    }
