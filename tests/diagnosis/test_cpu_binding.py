"""Programs that may not run on all CPUs: only those that wait while others idle are found."""

import unittest
from types import SimpleNamespace

from dunmist.diagnosis import findings
from dunmist.diagnosis.findings.rules import rules_of
from tests.handmade import Machine, application, examination, line, process, processors

LINE = line(10)


class Bound(unittest.TestCase):
    def found(self, *, busy=0.3, cpus=1, waiting=2.0, kernel=False, own=0.0):
        """Return the kinds and values for a program on a computer with four CPUs."""
        owner = application(1, LINE, "auk", kernel=kernel)
        for pid in (7, 8):
            member = process(pid, owner, LINE, cores=0.5, waiting=waiting / 2)
            member.detail = SimpleNamespace(cpus=cpus)
        sampler = application(2, LINE, "dunmist", cores=own, observer=True)
        exam = examination(Machine(LINE, processors(LINE, 4, user=busy)), [owner, sampler])
        return [
            (finding.kind, [round(figure.value, 1) for figure in finding.evidence])
            for rule in rules_of(findings.cpu_binding)
            for finding in rule.findings(exam, None)
        ]

    def test_it_waits_while_others_idle(self):
        self.assertEqual([("bound-to-cpus", [1.0, 2.0, 2.8])], self.found())
        # what sampling used is free without it
        self.assertEqual([("bound-to-cpus", [1.0, 2.0, 0.8])], self.found(busy=0.9, own=0.4))

    def test_what_is_no_such_thing(self):
        for case, given in (
            ("it may use all", {"cpus": 4}),
            ("the kernel does not say", {"cpus": None}),
            ("all CPUs are busy", {"busy": 0.9}),
            ("it does not wait", {"waiting": 0.4}),
            ("the kernel's own tasks are bound on purpose", {"kernel": True}),
        ):
            with self.subTest(case):
                self.assertEqual([], self.found(**given))


if __name__ == "__main__":
    unittest.main()
