"""What was measured, against its bar: one table that the benchmarks write by themselves.

A figure has a value for each run. Between the runs machines differ, so it is told with the interval
that holds it in 19 of 20 cases: of its median (order statistics: Conover, Practical Nonparametric
Statistics, 3.2), of few values that of the mean (Student, The probable error of a mean, 1908).
"""

import json
import math
import os
import platform
import re
import statistics
import sys
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from scipy.stats import t as student_t

DOCS = Path(__file__).parent.parent / "docs"
KEPT, TABLE = DOCS / "figures.json", DOCS / "measurements.md"
# an interval misses what it is for in so many cases
UNSURE = 0.05
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
    def mean(self):
        return statistics.fmean(self.values)

    @property
    def interval(self):
        """The values between which it lies in 19 of 20 cases."""
        ordered, cut = sorted(self.values), 0
        count = len(ordered)
        if count > 1 and _beyond(count, 0) > UNSURE:
            reach = student_t.ppf(1 - UNSURE / 2, count - 1) * statistics.stdev(ordered)
            return self.mean - reach / math.sqrt(count), self.mean + reach / math.sqrt(count)
        # each run lies below the median with one half: the outermost are left out while they may be
        while _beyond(count, cut + 1) <= UNSURE:
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


def keep_runs(group, runs):
    """Keep the figures of several runs, write the table anew, and say whether all runs agree."""
    _keep(group, runs=[[figure._asdict() for figure in figures] for figures in runs])
    apart = [figures[0] for figures in zip(*runs, strict=True) if agree(figures) is False]
    for figure in apart:
        print(f"they do not agree: {figure.what}", file=sys.stderr)
    return not apart


def agree(figures):
    """Whether the intervals of a figure of several runs meet; None where one has no interval."""
    if any(len(figure.values) == 1 for figure in figures):
        return None
    lows, highs = zip(*(figure.interval for figure in figures), strict=True)
    return max(lows) <= min(highs)


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


def _runs(runs):
    """Yield the lines of a table of several runs."""
    heads = [f"run {number + 1}" for number in range(len(runs))]
    yield f"| what | {' | '.join(heads)} | do they agree |"
    yield f"| --- | {' | '.join('---' for _ in heads)} | --- |"
    for row in zip(*runs, strict=True):
        figures = [Figure(**fields) for fields in row]
        agrees = {True: "yes", False: "**no**", None: ""}[agree(figures)]
        texts = " | ".join(map(_text, figures))
        # the number of processes differs from run to run
        yield f"| {figures[0].what} | {texts} | {agrees} |"


def _text(figure):
    low, high = (f"{value:.3g}" for value in figure.interval)
    spread = "" if len(figure.values) == 1 or low == high else f" ({low} to {high})"
    return f"{figure.median:.3g}{spread} {figure.unit}".rstrip()


def _bar(figure):
    return "" if figure.most is None else f"at most {figure.most:g} {figure.unit}".rstrip()
