"""Whether runs of ``make benchmarks`` agree: three, begun at least ten minutes one after the other.

Two runs agree on a figure where their intervals meet. Run it with ``make agree`` as administrator,
in three quarters of an hour, on a computer that does nothing else. It writes the tables of
docs/measurements.md, that of the last run too, and ends with 1 where two do not agree.
"""

import sys
import tempfile
import time
from pathlib import Path

from figures import keep, keep_runs, say
from measure import measured

RUNS, APART_S = 3, 600.0


def run():
    with tempfile.TemporaryDirectory() as folder:
        return [say(figure) for figure in measured(Path(folder))]


def main():
    runs = []
    for number in range(RUNS):
        began_s = time.monotonic()
        runs.append(run())
        print(f"{number + 1} of {RUNS} done", flush=True)
        if number + 1 < RUNS:
            time.sleep(max(0.0, began_s + APART_S - time.monotonic()))
    keep("benchmarks", runs[-1])
    sys.exit(not keep_runs("agree", runs))


if __name__ == "__main__":
    main()
