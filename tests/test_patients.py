"""Every patient that ships with the program is judged as its truth says."""

import multiprocessing
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from dunmist.advice import RISKS
from dunmist.cli.judging import judge
from dunmist.cli.patients import capture_patient
from dunmist.simulation import load_scenario, random_scenario, scenario_names


def triaged(scenario, without=()):
    import msgspec

    scenario = msgspec.structs.replace(scenario, hidden=[*scenario.hidden, *without])
    with TemporaryDirectory() as folder:
        return judge(capture_patient(scenario, Path(folder) / "x.jsonl.gz")).triage


def by_name(name):
    return name, triaged(load_scenario(name))


def by_missing(case):
    name, gone = case
    return name, gone, triaged(load_scenario(name), [gone])


def by_seed(seed):
    return seed, triaged(random_scenario(seed))


class Truth(unittest.TestCase):
    """Captured in parallel: the patients are many and independent."""

    def each(self, work, cases):
        with multiprocessing.get_context("spawn").Pool() as pool:
            yield from pool.imap(work, cases, chunksize=1)

    def test_each_patient(self):
        for name, found in self.each(by_name, scenario_names()):
            with self.subTest(name):
                truth = load_scenario(name).truth
                self.assertEqual(truth.limiting, found.verdict.limiting)
                named = [one.name for one in found.culprits]
                self.assertEqual([truth.culprit] if truth.culprit else [], named[:1])
                kinds = {one.kind for one in found.findings}
                self.assertLessEqual(set(truth.must), kinds)
                self.assertEqual(set(), set(truth.must_not) & kinds)
                for culprit in found.culprits:
                    risks = [RISKS.index(step.risk) for step in culprit.steps]
                    self.assertEqual(sorted(risks), risks, "safest first")
                if truth.cure and named:
                    actions = [step.action for step in found.culprits[0].steps]
                    self.assertIn(truth.cure, actions)

    def test_with_a_source_missing_the_culprit_stays_among_the_first_three(self):
        gone = ("proc/pressure/*", "proc/*/schedstat", "proc/*/cgroup", "proc/*/exe",
                "sys/class/hwmon/*", "proc/*/io", "proc/diskstats")  # fmt: skip
        # where the truth can still be seen in what remains
        names = {"ringing-office": gone, "lone-thread": gone, "narrow-burrow": gone,
                 "shelf-scan": gone[:5], "busy-ferry": gone}  # fmt: skip
        cases = [(name, one) for name, missing in names.items() for one in missing]
        for name, without, found in self.each(by_missing, cases):
            with self.subTest(name, without=without):
                named = [one.name for one in found.culprits[:3]]
                self.assertIn(load_scenario(name).truth.culprit, named)

    def test_nobody_is_named_on_a_healthy_one(self):
        # every eighth random patient is well and looks as if it were not
        for seed, found in self.each(by_seed, range(7, 8 * 12, 8)):
            with self.subTest(seed=seed):
                self.assertEqual((None, []), (found.verdict.limiting, found.culprits))
