"""Captures that were damaged, or made up: refused in one line, or judged without a wrong figure."""

import gzip
import json
import tempfile
import unittest
import warnings
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from dunmist.errors import DunmistError
from dunmist.jobs.judge import judge
from dunmist.reports import triage_json
from dunmist.simulation import load_scenario
from tests.program import capture_model
from tests.slow.test_robust import figures, impossible_cells

PATIENT = "two-faults"
PLACES = st.integers(0, 10**6)
NUMBERS = st.sampled_from((0, -1, 1, 7, 10**6, 2**31, 2**53, 2**62, 2**63 - 1)) | st.floats(
    0.0, 1e12
)
CHANGES = st.lists(
    st.tuples(st.sampled_from(("number", "drop", "twice", "less")), PLACES, PLACES, NUMBERS),
    min_size=1,
    max_size=6,
)


def leaves(value, path=()):
    """Yield the path of every number in a JSON value."""
    if isinstance(value, dict | list):
        items = value.items() if isinstance(value, dict) else enumerate(value)
        for key, inner in items:
            yield from leaves(inner, (*path, key))
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield path


def damaged(lines, changes):
    """Return the lines of a capture with some changed as told."""
    lines = list(lines)
    for what, line, place, number in changes:
        at = 1 + line % (len(lines) - 1)
        if what == "drop":
            del lines[at]
        elif what == "twice":
            lines.insert(at, lines[at])
        else:
            record = json.loads(lines[at])
            paths = list(leaves(record))
            *above, last = paths[place % len(paths)]
            inner = record
            for key in above:
                inner = inner[key]
            kept = inner[last]
            new = kept // 2 if what == "less" else number
            inner[last] = int(new) if isinstance(kept, int) else float(new)
            lines[at] = json.dumps(record).encode()
    return lines


class Damaged(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.holder = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.holder.name)
        path = cls.folder / "whole.jsonl.gz"
        capture_model(load_scenario(PATIENT), path, 6.0)
        cls.lines = gzip.decompress(path.read_bytes()).splitlines()

    @classmethod
    def tearDownClass(cls):
        cls.holder.cleanup()

    # the same examples in every run: what a longer search finds becomes one of its own
    @settings(
        max_examples=50, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck)
    )
    @given(CHANGES)
    def test_nothing_impossible_is_told(self, changes):
        path = self.folder / "damaged.jsonl.gz"
        path.write_bytes(gzip.compress(b"\n".join(damaged(self.lines, changes)) + b"\n", 1))
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            try:
                judged = judge(path)
            except DunmistError as error:
                self.assertNotIn("\n", str(error))
                return
            numbers = list(figures(json.loads(triage_json(judged.triage))))
            self.assertEqual([], impossible_cells(judged))
        processors = judged.series.machine.logical_processors
        for application in judged.series.applications:
            self.assertLessEqual(application.cores.greatest() or 0.0, processors + 1e-9)
        for resource in judged.triage.resources:
            self.assertTrue(0 <= resource.used <= 1, resource)
        for number in numbers:
            self.assertTrue(abs(number) < float("inf"))
        for share in judged.triage.coverage.values():
            self.assertTrue(share is None or 0 <= share <= 1)
