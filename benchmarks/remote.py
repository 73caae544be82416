"""Measure what the collector costs the remote computer, with its shell and 300 processes.

``python benchmarks/remote.py``: the kernel's own count of a shell and of the children that
it waited for, over what the run took; and what a second of it weighs.
"""

import json
import resource
import subprocess
import sys
import time
from pathlib import Path

from dunmist.remote.collector_script import collector_script

PROCESSES, TICKS = 300, 30


def main():
    shells = sys.argv[1:] or ["dash", "bash --posix", "busybox sh"]
    there = sum(path.name.isdigit() for path in Path("/proc").iterdir())
    sleepers = [subprocess.Popen(["sleep", "9999"]) for _ in range(PROCESSES - there)]
    try:
        for shell in shells:
            before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.monotonic()
            done = subprocess.run(
                [*shell.split(), "-s"],
                input=collector_script("0" * 16, TICKS, 1.0).encode(),
                capture_output=True,
                check=True,
            )
            after, span_s = resource.getrusage(resource.RUSAGE_CHILDREN), time.monotonic() - began
            used_s = (after.ru_utime + after.ru_stime) - (before.ru_utime + before.ru_stime)
            result = {
                "shell": shell,
                "seconds": round(span_s, 1),
                "share_of_a_core": round(used_s / span_s, 4),
                "kib_a_second": round(len(done.stdout) / 1024 / span_s),
            }
            print(json.dumps(result))
    finally:
        for sleeper in sleepers:
            sleeper.kill()
            sleeper.wait()


if __name__ == "__main__":
    main()
