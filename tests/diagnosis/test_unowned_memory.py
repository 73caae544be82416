"""Memory that no program holds: which part of it is told from the memory of programs."""

import unittest
from dataclasses import replace
from types import SimpleNamespace

from dunmist.computer import FileSystem
from dunmist.computer.process_details import MemoryRollup
from dunmist.diagnosis import findings
from dunmist.diagnosis.findings.rules import rules_of
from dunmist.diagnosis.judge import find_external_cause
from dunmist.diagnosis.records import ResourceState
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.series import Storage
from dunmist.thresholds import thresholds
from tests.handmade import GIB, Machine, application, examination, line, process, processors

LINE = line(10)
SHORT = ResourceState("memory", "strained", 0.95, 0.5, [])
# of 8 GiB in all
HUGE_PAGE_GIB = 2 / 1024


def rollup(number, shared_gib):
    return MemoryRollup(number, 1, 1, 1, None, None, shared_kib=round(shared_gib * GIB / 1024))


class Unowned(unittest.TestCase):
    def found(self, *, private=0.5, shared=0.0, rollups=(), files=(), state=SHORT, **memory):
        owner = application(1, LINE, "auk", private=private * GIB)
        member = process(7, owner, LINE, private=private * GIB, shared=shared * GIB)
        storage = [
            Storage(FileSystem(point, kind, "x", False), round(gib * GIB), 0.5, 0.1)
            for point, kind, gib in files
        ]
        machine = Machine(LINE, processors(LINE, 4), memory=memory)
        exam = examination(machine, [owner], [member], storage=storage)
        exam.series.surveyed.last = SimpleNamespace(rollups=list(rollups))
        strained = StrainedResources([state])
        return [
            finding
            for rule in rules_of(findings.unowned_memory)
            for finding in rule.findings(exam, strained)
        ]

    def short(self, **given):
        return [(each.kind, each.severity, each.subject) for each in self.found(**given)]

    def test_files_in_memory_are_named_by_where_they_lie(self):
        files = [("/srv", "ext4", 3.0), ("/run", "tmpfs", 0.1), ("/dev/shm", "tmpfs", 2.9)]
        found = self.found(Shmem=3.0, files=files)
        self.assertEqual(
            [("memory-in-files", "urgent", "/dev/shm")], self.short(Shmem=3.0, files=files)
        )
        points = [figure.slots.get("name") for figure in found[0].evidence]
        self.assertEqual([None, "/dev/shm"], points)
        # a part of the files lies in swap
        self.assertEqual([], self.short(Shmem=1.0, files=files))
        self.assertEqual([("memory-shared", "urgent", None)], self.short(Shmem=3.0))
        # most of it lies elsewhere
        few = [("/dev/shm", "tmpfs", 1.0)]
        self.assertEqual([("memory-shared", "urgent", None)], self.short(Shmem=3.0, files=few))

    def test_shared_memory_that_a_program_maps_is_its_own(self):
        self.assertEqual([], self.short(Shmem=3.0, shared=2.5))
        self.assertEqual([], self.short(Shmem=3.0, rollups=[rollup(7, 2.5)]))
        # exact figures say that what it shares is a file
        self.assertEqual(
            [("memory-shared", "urgent", None)],
            self.short(Shmem=3.0, shared=2.5, rollups=[rollup(7, 0.1)]),
        )

    def test_a_reserve_counts_as_far_as_it_is_unused(self):
        free = {"Hugepagesize": HUGE_PAGE_GIB, "Hugetlb": 4.0}
        # counts are kept as if they were KiB
        pages = 3.0 / HUGE_PAGE_GIB * 1024 / GIB
        self.assertEqual(
            [("memory-reserved", "urgent", None)], self.short(HugePages_Free=pages, **free)
        )
        self.assertEqual([], self.short(HugePages_Free=0.0, **free))

    def test_memory_of_the_kernel(self):
        self.assertEqual([("memory-in-kernel", "urgent", None)], self.short(SUnreclaim=2.1))
        self.assertEqual([], self.short(SUnreclaim=1.9))

    def test_it_is_to_blame_only_where_no_program_holds_more(self):
        for case, wanted, given in (
            ("the largest program has less", "urgent", {}),
            ("one has more", "concern", {"private": 4.0}),
            ("hardly any room", "concern", {"state": replace(SHORT, level="busy")}),
            ("there is room", "note", {"state": replace(SHORT, level="calm")}),
        ):
            with self.subTest(case):
                found = self.found(SUnreclaim=3.0, **given)
                self.assertEqual([wanted], [each.severity for each in found])
                cause = find_external_cause(SHORT, found, thresholds())
                self.assertEqual(wanted == "urgent", cause is not None)


if __name__ == "__main__":
    unittest.main()
