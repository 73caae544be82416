"""What was measured, against its bar: one table that the benchmarks write by themselves.

A figure has a value for each run. Between the runs machines differ, so it is told with the interval
that holds its median (order statistics: Conover, Practical Nonparametric Statistics, 3.2).
"""

import json
import os
import platform
import re
import statistics
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

DOCS = Path(__file__).parent.parent / "docs"
KEPT, TABLE = DOCS / "figures.json", DOCS / "measurements.md"
PLACE = re.compile(r"(?<=<!-- written by the benchmarks -->\n).*?(?=<!-- end -->)", re.S)


class Figure(NamedTuple):
    """One thing that was measured in some runs; ``most`` is what it may be at most."""

    what: str
    unit: str
    values: list[float]
    most: float | None = None

    @property
    def median(self):
        return statistics.median(self.values)

    @property
    def interval(self):
        """The values between which the median lies in 19 of 20 cases; all of them when few."""
        ordered, cut = sorted(self.values), 0
        # each run lies below the median with one half: the outermost are left out while they may be
        while _beyond(len(ordered), cut + 1) <= 0.05:
            cut += 1
        return ordered[cut], ordered[-1 - cut]

    @property
    def is_reached(self):
        return self.most is None or self.median <= self.most


def _beyond(runs, cut):
    """Return how likely the median lies outside of all but the ``cut`` lowest and highest runs."""
    below = [1.0]
    for place in range(1, cut + 1):
        below.append(below[-1] * (runs - place + 1) / place)
    return 2 * sum(below) / 2**runs


def say(figure):
    """Print a figure as soon as it is known."""
    print(f"{figure.what:<74} {_text(figure):>26}   {_bar(figure)}", flush=True)
    return figure


def record(group, figures: Iterable[Figure]):
    """Print and keep the figures of one group, write the table anew, and end the program.

    Its status is 1 where a bar was missed.
    """
    sys.exit(not keep(group, [say(figure) for figure in figures]))


def keep(group, figures):
    """Keep the figures of one group, write the table anew, and say whether each bar was reached."""
    _keep(group, figures=[figure._asdict() for figure in figures])
    missed = [figure for figure in figures if not figure.is_reached]
    for figure in missed:
        print(f"missed: {figure.what}: {_text(figure)}, {_bar(figure)}", file=sys.stderr)
    return not missed


def keep_agreement(group, rows):
    """Keep figures of several runs, each with whether the runs agree, and write the table anew.

    ``rows`` has pairs: a figure of each run, and yes, no or None where that cannot be said.
    """
    runs = [
        {"agrees": agrees, "figures": [figure._asdict() for figure in figures]}
        for figures, agrees in rows
    ]
    _keep(group, runs=runs)


def _keep(group, **told):
    kept = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    made = datetime.now(UTC).strftime("%Y-%m-%d")
    kept[group] = {"made": made, "machine": machine(), **told}
    KEPT.write_text(json.dumps(kept, indent=1) + "\n")
    TABLE.write_text(PLACE.sub(lambda _: _table(kept), TABLE.read_text()))


def machine():
    """Return what was measured on, without anything of whose it is."""
    memory = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") / 2**30
    system = f"Linux {platform.release().split('-')[0]}, Python {platform.python_version()}"
    return f"{os.cpu_count()} logical CPUs, {memory:.0f} GiB, {system}"


def _table(kept):
    parts = []
    for group, told in kept.items():
        parts.append(f"\n`make {group}`, {told['made']}, on {told['machine']}:\n")
        if "runs" in told:
            parts += _runs(told["runs"])
            continue
        parts.append("| what | measured | bar | reached |\n| --- | --- | --- | --- |")
        for figure in (Figure(**fields) for fields in told["figures"]):
            is_reached = "" if figure.most is None else "yes" if figure.is_reached else "**no**"
            parts.append(f"| {figure.what} | {_text(figure)} | {_bar(figure)} | {is_reached} |")
    return "\n".join(parts) + "\n\n"


def _runs(rows):
    """Yield the lines of a table of several runs."""
    count = len(rows[0]["figures"])
    heads = [f"run {number + 1}" for number in range(count)]
    yield f"| what | {' | '.join(heads)} | do they agree |"
    yield f"| --- | {' | '.join('---' for _ in heads)} | --- |"
    for row in rows:
        figures = [Figure(**fields) for fields in row["figures"]]
        agrees = {True: "yes", False: "**no**", None: ""}[row["agrees"]]
        texts = " | ".join(map(_text, figures))
        # the number of processes differs from run to run
        yield f"| {figures[0].what} | {texts} | {agrees} |"


def _text(figure):
    low, high = (f"{value:.3g}" for value in figure.interval)
    spread = "" if len(figure.values) == 1 or low == high else f" ({low} to {high})"
    return f"{figure.median:.3g}{spread} {figure.unit}".rstrip()


def _bar(figure):
    return "" if figure.most is None else f"at most {figure.most:g} {figure.unit}".rstrip()
