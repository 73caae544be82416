"""Runs the test classes named on standard input, and answers each with one line of JSON."""

import io
import json
import os
import sys
import time
import unittest

from tests.program import FORK_SERVER


def used_cpu_s():
    """Return the CPU time of this process, its exited children, and runs of the program."""
    return sum(os.times()[:4]) + FORK_SERVER.cpu_s


class Timed(unittest.TextTestResult):
    """The results of a class, with the wall time and the CPU time of each test."""

    def __init__(self, *arguments, **options):
        super().__init__(*arguments, **options)
        self.took_s = {}

    def startTest(self, test):
        self.began_s, self.began_cpu_s = time.monotonic(), used_cpu_s()
        super().startTest(test)

    def stopTest(self, test):
        super().stopTest(test)
        cpu_s = used_cpu_s() - self.began_cpu_s
        self.took_s[test.id()] = time.monotonic() - self.began_s, cpu_s


def run(name):
    """Return what the tests of a class came to, as figures and text."""
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    told = io.StringIO()
    result = Timed(unittest.runner._WritelnDecorator(told), descriptions=False, verbosity=0)
    result.startTestRun()
    suite.run(result)
    result.stopTestRun()
    result.printErrors()
    return {
        "tests": result.testsRun,
        "failures": len(result.failures) + len(result.unexpectedSuccesses),
        "errors": len(result.errors),
        "skipped": len(result.skipped),
        "text": told.getvalue(),
        "took_s": result.took_s,
    }


if __name__ == "__main__":
    # tests may print: what is answered has a descriptor of its own
    with os.fdopen(os.dup(1), "w") as answers:
        os.dup2(2, 1)
        for line in sys.stdin:
            print(json.dumps(run(line.strip())), file=answers, flush=True)
