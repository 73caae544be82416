"""Whether runs of ``make benchmarks`` agree: three, begun at least ten minutes one after the other.

Two runs agree on a figure where their intervals meet. Run it with ``make agree`` as administrator,
in three quarters of an hour, on a computer that does nothing else. It writes the tables of
docs/measurements.md, that of the last run too, and ends with 1 where two do not agree.
"""

import sys
import tempfile
import time
from itertools import combinations
from pathlib import Path

from figures import keep, keep_agreement, say
from measure import measured

RUNS, APART_S = 3, 600.0


def run():
    with tempfile.TemporaryDirectory() as folder:
        return [say(figure) for figure in measured(Path(folder))]


def meet(figure, other):
    """Whether the intervals of two figures meet; a figure of one value has none."""
    (low, high), (other_low, other_high) = figure.interval, other.interval
    return low <= other_high and other_low <= high


def main():
    runs = []
    for number in range(RUNS):
        began_s = time.monotonic()
        runs.append(run())
        print(f"{number + 1} of {RUNS} done", flush=True)
        if number + 1 < RUNS:
            time.sleep(max(0.0, began_s + APART_S - time.monotonic()))
    rows = []
    for figures in zip(*runs, strict=True):
        has_interval = all(len(figure.values) > 1 for figure in figures)
        agrees = all(meet(*pair) for pair in combinations(figures, 2)) if has_interval else None
        rows.append((figures, agrees))
    keep("benchmarks", runs[-1])
    keep_agreement("agree", rows)
    apart = [figures[0].what for figures, agrees in rows if agrees is False]
    for what in apart:
        print(f"they do not agree: {what}", file=sys.stderr)
    sys.exit(1 if apart else 0)


if __name__ == "__main__":
    main()
