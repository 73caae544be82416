"""Runs every test and closes with one line: 'N passed, N failed'."""

import sys
import unittest
import warnings
from pathlib import Path

if __name__ == "__main__":
    warnings.simplefilter("error")
    suite = unittest.defaultTestLoader.discover(str(Path(__file__).parent), top_level_dir=".")
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = result.testsRun - failed - skipped
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    sys.exit(bool(failed))
