"""Runs the tests on all cores and closes with one line: 'N passed, N failed'.

Each class is given as a whole to one of the workers, the slow ones first. Classes that compare
figures with what the whole computer did (``measures_computer``) run afterwards, one at a time.
"""

import argparse
import json
import os
import queue
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections import Counter
from pathlib import Path

HERE = Path(__file__).parent
SLOW = "tests.slow."
# what unittest calls a module that cannot be imported
UNREADABLE = "unittest.loader._FailedTest."


def cases(suite):
    """Yield every test of a suite; what cannot be imported is a test that fails."""
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            yield from cases(item)
        else:
            yield item


def find_classes(*, quick):
    """Return the names of the classes that share cores, and of those that want them all."""
    found = unittest.defaultTestLoader.discover(str(HERE), top_level_dir=str(HERE.parent))
    together, alone = {}, {}
    for case in cases(found):
        kind = type(case)
        name = case.id().removeprefix(UNREADABLE)
        if name == case.id():
            name = name.rpartition(".")[0]
        if not (quick and name.startswith(SLOW)):
            (alone if getattr(kind, "measures_computer", False) else together)[name] = None
    return sorted(together, key=lambda name: not name.startswith(SLOW)), [*alone]


class Run:
    """The workers, and what their tests came to."""

    def __init__(self):
        self.counts = Counter()
        self.took_s = {}
        self.lock = threading.Lock()

    def go(self, names, workers):
        """Give the classes to as many workers; return when all are done."""
        waiting = queue.SimpleQueue()
        for name in names:
            waiting.put(name)
        threads = [threading.Thread(target=self.work, args=(waiting,)) for _ in range(workers)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def work(self, waiting):
        worker = None
        while True:
            try:
                name = waiting.get_nowait()
            except queue.Empty:
                break
            if worker is None:
                worker = start_worker()
            worker.stdin.write(f"{name}\n")
            worker.stdin.flush()
            line = worker.stdout.readline()
            if line:
                self.add(json.loads(line))
            else:
                self.add({"tests": 1, "errors": 1, "text": f"ERROR: {name}\nits worker ended\n"})
                worker = None
        if worker:
            worker.communicate()

    def add(self, result):
        with self.lock:
            text = result.pop("text") + "." * result["tests"]
            print(text, end="", file=sys.stderr, flush=True)
            self.took_s |= result.pop("took_s", {})
            self.counts.update(result)


def start_worker():
    return subprocess.Popen(
        [sys.executable, "-W", "error", "-m", "tests.worker"],
        cwd=HERE.parent,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )


def main():
    options = argparse.ArgumentParser(prog="python -m tests")
    options.add_argument("--quick", action="store_true", help="without tests/slow")
    options.add_argument("--workers", type=int, default=os.cpu_count())
    options.add_argument("--times", type=Path, help="a file for wall and CPU time of each test")
    chosen = options.parse_args()
    began_s = time.monotonic()
    run = Run()
    together, alone = find_classes(quick=chosen.quick)
    with tempfile.TemporaryDirectory(prefix="dunmist-tests-") as captures:
        os.environ["DUNMIST_TESTS_CAPTURES"] = captures
        run.go(together, chosen.workers)
        run.go(alone, 1)
    if chosen.times:
        slowest = sorted(run.took_s.items(), key=lambda item: -item[1][0])
        chosen.times.write_text(
            "".join(f"{wall_s:8.2f} {cpu_s:8.2f} {name}\n" for name, (wall_s, cpu_s) in slowest)
        )
    failed, skipped = run.counts["failures"] + run.counts["errors"], run.counts["skipped"]
    passed = run.counts["tests"] - failed - skipped
    print(f"\n{run.counts['tests']} tests in {time.monotonic() - began_s:.0f} s", file=sys.stderr)
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
