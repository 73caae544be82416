"""What makes one doubt: drawn from a seed, judged without certainty."""

import re
import unittest
from collections import Counter
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.drawn import LIMITED, hard_patient

from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient


def triaged(seed):
    patient = hard_patient(seed)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "x.jsonl.gz"
        how = patient.duration_s, patient.every_s
        return judge(capture_patient(patient.scenario, path, *how, clock=patient.clock)).triage


class Hard(unittest.TestCase):
    def test_they_differ_in_what_is_hard(self):
        drawn = [hard_patient(seed) for seed in range(60)]
        self.assertEqual([item.illness for item in drawn], [LIMITED[n % 6] for n in range(60)])
        self.assertEqual(drawn[7], hard_patient(7))
        processors = {item.scenario.machine.cores for item in drawn}
        self.assertLessEqual({2, 64}, processors)
        self.assertGreater(len({item.duration_s for item in drawn}), 4)
        self.assertGreater(len({tuple(item.scenario.hidden) for item in drawn}), 4)
        sick = Counter(item.scenario.truth.limiting is None for item in drawn)
        self.assertGreater(min(sick.values()), 12)

    def test_each_of_many_builders_has_a_name(self):
        names = [program.name for program in hard_patient(41964).scenario.programs]
        self.assertGreater(len(names), 100)
        self.assertEqual(len(names), len(set(names)))

    def test_equals_that_want_the_same_are_named_together(self):
        for seed in (41020, 41054):
            result = triaged(seed)
            with self.subTest(seed):
                first, second = (culprit.name for culprit in result.culprits[:2])
                self.assertIn(f"{first} and {second} together", result.verdict.headline)

    def test_where_nothing_tells_who_nobody_is_named(self):
        result = triaged(41116)
        self.assertEqual(("disk", []), (result.verdict.limiting, result.culprits))
        self.assertIn("could not be seen: sample again as administrator", result.verdict.headline)

    def test_one_that_got_few_of_its_ticks_says_so(self):
        result = triaged(41067)
        (share,) = re.findall(r"^Only (\d+) % of the planned ticks", result.verdict.headline)
        self.assertTrue(30 <= int(share) < 50)
