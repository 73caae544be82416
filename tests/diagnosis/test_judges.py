"""Each judge, the ranking and the coverage, on figures that were written down by hand."""

import dataclasses
import unittest
from types import SimpleNamespace

import numpy as np

from dunmist.computer import (
    FileSystem,
    GroupWeight,
    LogEnd,
    LogWriter,
    Printer,
    ShownTerminal,
    SocketFacts,
)
from dunmist.diagnosis import thresholds
from dunmist.diagnosis.confidence import confidence_of, data_quality
from dunmist.diagnosis.cpu_yielding import find_yielding
from dunmist.diagnosis.findings.memory import growth
from dunmist.diagnosis.judge import find_external_cause, find_limiting, judge_instance
from dunmist.diagnosis.local_clients import (
    find_file_clients,
    find_local_clients,
    find_log_writers,
    find_printers,
    serving_evidence,
)
from dunmist.diagnosis.quotas import quota_limited
from dunmist.diagnosis.ranking import rank_culprits
from dunmist.diagnosis.real_time import real_time_evidence
from dunmist.diagnosis.records import Finding, ResourceState, figure
from dunmist.diagnosis.resources import RESOURCE_BY_WORD, find_bound, find_coverage, find_slow_disks
from dunmist.series import CallUse, ProcessorSensor, SocketSeries, Storage, UnixConnection
from tests.handmade import (
    GIB,
    Machine,
    application,
    disk,
    examination,
    facts,
    level,
    line,
    link,
    process,
    processors,
    rate,
    watched,
)

LINE = line(10)
HALF_AND_HALF = [1.0] * 4 + [0.0] * 6
LATE = np.array([0.0] * 3 + [1.0] * 7)


def machine(busy=0.0, count=4, **more):
    return Machine(LINE, processors(LINE, count, user=busy), **more)


def states(word, exam):
    return [
        judge_instance(exam, RESOURCE_BY_WORD[word], instance)
        for instance in RESOURCE_BY_WORD[word].instances(exam)
    ]


def covered(word):
    """Return a resource of which all that was counted was given to somebody."""
    return RESOURCE_BY_WORD[word]._replace(coverage=None)


def keys(evidence):
    return [item.key for item in evidence]


class Processors(unittest.TestCase):
    def level(self, busy, stalled, waiting, **more):
        crowd = application(1, LINE, cores=3.0, waiting=waiting, **more)
        exam = examination(machine(busy, stalled={"cpu": rate(stalled, LINE)}), [crowd])
        (state,) = states("cpu", exam)
        return state.level

    def test_full_is_not_yet_held_up(self):
        for what, wanted, busy, stalled, waiting in (
            ("idle", "calm", 0.1, 0.9, 4.0),
            ("half", "busy", 0.6, 0.9, 4.0),
            ("full, and nobody waits", "busy", 1.0, 0.0, 0.0),
            ("full, one of many waits", "busy", 1.0, 1.0, 0.2),
            ("full, and work waits", "strained", 0.9, 0.5, 2.0),
            ("more work than half as much again", "choked", 1.0, 0.9, 6.0),
            ("full for less than half of the time", "calm", HALF_AND_HALF, 1.0, 6.0),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.level(busy, stalled, waiting))

    def test_work_that_gives_way_holds_up_nobody(self):
        self.assertEqual("busy", self.level(1.0, 1.0, 6.0, low_priority=0.9))

    def test_who_gives_way_to_whom(self):
        """Beside an ordinary program: raised nice values count in one's own group only."""
        own, other = GroupWeight("/a", "/a"), GroupWeight("/b", "/b")
        for case, mine, low, weights, autogroup, expected in (
            ("one group of all", {}, 1.0, (), False, 1.0),
            ("ordinary work", {}, 0.0, (), False, 0.0),
            ("a group of its own", {"cgroup": "/a"}, 1.0, (own, other), False, 0.0),
            ("in the other's group", {"cgroup": "/b"}, 1.0, (own, other), False, 1.0),
            ("a session of its own", {"session": 9}, 1.0, (), True, 0.0),
            ("in the other's session", {}, 1.0, (), True, 1.0),
            ("sessions, without groups of them", {"session": 9}, 1.0, (), False, 1.0),
            (
                "a light group",
                {"cgroup": "/a"},
                0.0,
                (GroupWeight("/a", "/a", 10), other),
                True,
                1.0,
            ),
            (
                "an idle group",
                {"cgroup": "/a"},
                0.0,
                (GroupWeight("/a", "/a", 100, True), other),
                False,
                1.0,
            ),
            ("a policy that gives way", {"policy": 5}, 0.0, (), False, 1.0),
        ):
            background = application(1, LINE, cores=1.0, low_priority=low)
            ordinary = application(2, LINE, cores=1.0)
            about = {"session": 1, "cgroup": "/c", **mine}
            tasks = [
                process(10, background, LINE, cores=1.0, **about),
                process(20, ordinary, LINE, cores=1.0, session=1, cgroup="/b"),
            ]
            exam = examination(
                machine(0.5), [background, ordinary], tasks, weights=weights, autogroup=autogroup
            )
            with self.subTest(case):
                self.assertEqual(expected, find_yielding(exam)[1])
                self.assertEqual(0.0, find_yielding(exam)[2])

    def test_background_work_never_hides_that_ordinary_work_waits(self):
        # three ordinary programs and three that give way on two CPUs, all in one group
        ordinary = application(1, LINE, cores=1.9, waiting=1.1)
        background = application(2, LINE, cores=0.1, waiting=2.9, low_priority=1.0)
        exam = examination(
            machine(1.0, 2, stalled={"cpu": rate(0.9, LINE)}), [ordinary, background]
        )
        (state,) = states("cpu", exam)
        self.assertEqual("strained", state.level)
        self.assertAlmostEqual(0.9, state.pressure)

    def test_what_the_hypervisor_took_was_never_there(self):
        spent = Machine(LINE, processors(LINE, 4, user=0.48, steal=0.5))
        (state,) = states("cpu", examination(spent))
        self.assertAlmostEqual(0.96, state.used, 6)
        self.assertIn("cpu-steal", keys(state.evidence))

    def test_without_stall_accounting_the_queue_tells(self):
        for runnable, wanted in ((4.0, "busy"), (12.0, "choked")):
            with self.subTest(runnable):
                exam = examination(
                    machine(1.0, runnable=level(runnable, LINE)), [application(1, LINE, cores=4.0)]
                )
                (state,) = states("cpu", exam)
                self.assertEqual(wanted, state.level)
                self.assertIn("cpu-pressure-queue", keys(state.evidence))


class OneProcessor(unittest.TestCase):
    def bound(self, *, busy=0.3, threads=1, alive=None, **figures):
        program = application(
            1, LINE, cores=figures.get("cores", 0.0), low_priority=figures.pop("low_priority", 0.0)
        )
        exam = examination(
            machine(busy), [program], [process(7, program, LINE, threads=threads, **figures)]
        )
        return [item.process.pid for item in find_bound(exam)]

    def test_a_cpu_that_is_busy_with_the_sampling_is_said_to_be(self):
        own = application(0, LINE, "own", cores=0.4, observer=True)
        other = application(1, LINE, cores=0.4)
        tasks = [process(7, own, LINE, cores=0.4), process(8, other, LINE, cores=0.4)]
        span_s = LINE.measured_s
        for mine, wanted, told in ((0.4, "calm", True), (0.0, "busy", False)):
            used = np.array([[mine * span_s, (0.8 - mine) * span_s]])
            exam = examination(machine(0.8, 1), [own, other], tasks, processor_cpu_s=used)
            (state,) = states("core", exam)
            with self.subTest(mine):
                self.assertEqual(wanted, state.level)
                self.assertEqual(told, "core-own" in keys(state.evidence))

    def test_who_hangs_on_one_processor(self):
        for what, wanted, figures in (
            ("full all the time", [7], {"cores": 1.0}),
            ("with a little rest", [], {"cores": 0.9}),
            ("waits a little for its processor", [7], {"cores": 0.9, "waiting": 0.1}),
            ("waits for others, so more processors help", [], {"cores": 0.6, "waiting": 0.4}),
            ("full for less than half of the time", [], {"cores": HALF_AND_HALF}),
            ("gives way to others", [], {"cores": 1.0, "low_priority": 0.9}),
            (
                "one full thread beside idle ones",
                [7],
                {
                    "cores": 1.02,
                    "threads": 2,
                    "watched": [watched(LINE, 1.0), watched(LINE, 0.02, tid=2)],
                },
            ),
            (
                "two threads that are full at once",
                [],
                {
                    "cores": 2.0,
                    "threads": 2,
                    "watched": [watched(LINE, 1.0), watched(LINE, 1.0, tid=2)],
                },
            ),
            (
                "two that take turns",
                [7],
                {
                    "cores": 1.0,
                    "threads": 2,
                    "watched": [watched(LINE, 0.5, 0.02), watched(LINE, 0.5, 0.02, tid=2)],
                },
            ),
            (
                "two that share one processor",
                [],
                {
                    "cores": 1.0,
                    "threads": 2,
                    "watched": [watched(LINE, 0.5, 0.5), watched(LINE, 0.5, 0.5, tid=2)],
                },
            ),
            (
                "one that was not read at first",
                [7],
                {
                    "cores": 1.3,
                    "threads": 9,
                    "watched": [watched(LINE, LATE), watched(LINE, 0.3, tid=2)],
                },
            ),
            (
                "one that was not read at first, and is not full",
                [],
                {
                    "cores": 1.3,
                    "threads": 9,
                    "watched": [watched(LINE, LATE * 0.8), watched(LINE, 0.5, tid=2)],
                },
            ),
            (
                "one that rests for a third of the time",
                [],
                {
                    "cores": LATE * 1.3,
                    "threads": 9,
                    "watched": [watched(LINE, LATE), watched(LINE, LATE * 0.3, tid=2)],
                },
            ),
            ("several of which none could be read", [7], {"cores": 1.0, "threads": 3}),
            ("several that use more than one", [], {"cores": 1.9, "threads": 3}),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.bound(**figures))

    def test_a_parallel_program_is_not_bound_by_one(self):
        program = application(1, LINE, cores=4.0)
        full = [process(pid, program, LINE, cores=1.0) for pid in range(10, 14)]
        self.assertEqual([], find_bound(examination(machine(1.0), [program], full)))

    def test_another_full_processor_at_each_moment_is_still_full(self):
        program = application(1, LINE, cores=1.0)
        exam = examination(machine(0.25), [program], [process(7, program, LINE, cores=1.0)])
        (state,) = states("core", exam)
        self.assertEqual(("strained", "auk1"), (state.level, state.name))
        ranked = rank_culprits(exam, covered("core"))
        self.assertEqual(["auk1"], [item.name for item in ranked])

    def test_a_busy_processor_of_nobody_is_busy_and_no_more(self):
        exam = examination(machine(0.8), [application(1, LINE, cores=3.2)])
        (state,) = states("core", exam)
        self.assertEqual(("busy", "cpu0", 0.0), (state.level, state.name, state.pressure))

    def test_a_quota_that_runs_out_is_no_lack_of_processors(self):
        program = application(1, LINE, cores=1.0)
        kept = process(7, program, LINE, cores=1.0)
        for limited, cgroup, wanted in (
            (0.9, "/ferry.slice/auk.service", {1}),
            (0.9, "/ferry.slice-2/auk.service", set()),
            (0.0, "/ferry.slice/auk.service", set()),
        ):
            with self.subTest(cgroup=cgroup, limited=limited):
                kept.facts = facts(7, cgroup=cgroup)
                group = SimpleNamespace(
                    path="/ferry.slice", quota_cores=1.0, limited=rate(limited, LINE)
                )
                exam = examination(machine(0.3), [program], [kept], groups=[group])
                self.assertEqual(wanted, quota_limited(exam))
                self.assertEqual(not wanted, bool(find_bound(exam)))


class Memory(unittest.TestCase):
    def test_stalls_tell_where_the_kernel_counts_them(self):
        for available, stalled, wanted in (
            (6.0, 0.0, "calm"),
            (1.0, 0.0, "busy"),
            (1.0, 0.2, "strained"),
            (6.0, 0.5, "choked"),
        ):
            with self.subTest(available=available, stalled=stalled):
                held = machine(
                    memory={"MemTotal": 8.0, "MemAvailable": available},
                    stalled={"memory": rate(stalled, LINE)},
                )
                (state,) = states("memory", examination(held))
                self.assertEqual(wanted, state.level)

    def test_else_pages_that_come_back_do_but_only_when_memory_is_short(self):
        for available, pages, wanted in (
            (0.5, 100.0, "busy"),
            (0.5, 600.0, "strained"),
            (0.5, 9e3, "choked"),
            (4.0, 9e3, "calm"),
        ):
            with self.subTest(available=available, pages=pages):
                held = machine(
                    memory={"MemTotal": 8.0, "MemAvailable": available},
                    paging={"workingset_refault_anon": pages},
                )
                (state,) = states("memory", examination(held))
                self.assertEqual(wanted, state.level)

    def test_what_is_left_counts_swap_as_well(self):
        for available, free, wanted in (
            (0.05, 0.0, "strained"),
            (0.05, 2.0, "busy"),
            (0.5, 0.0, "busy"),
        ):
            with self.subTest(available=available, free=free):
                held = machine(
                    memory={
                        "MemTotal": 8.0,
                        "MemAvailable": available,
                        "SwapTotal": 2.0,
                        "SwapFree": free,
                    },
                    stalled={"memory": rate(0.0, LINE)},
                )
                (state,) = states("memory", examination(held))
                self.assertEqual(wanted, state.level)

    def test_pages_that_go_and_come_back_by_the_thousand_slow_all_down(self):
        for pages, wanted in ((4000.0, "strained"), (1000.0, "busy")):
            with self.subTest(pages=pages):
                held = machine(
                    memory={"MemTotal": 8.0, "MemAvailable": 0.4},
                    paging={"pswpin": pages, "pswpout": pages},
                    stalled={"memory": rate(0.01, LINE)},
                )
                (state,) = states("memory", examination(held))
                self.assertEqual(wanted, state.level)

    def test_used_swap_is_harmless_and_traffic_is_not(self):
        for free, pages, wanted in ((0.1, 0.0, "calm"), (3.9, 9e3, "strained")):
            with self.subTest(free=free):
                held = machine(
                    memory={"SwapTotal": 4.0, "SwapFree": free}, paging={"pswpin": pages}
                )
                (state,) = states("swap", examination(held))
                self.assertEqual(wanted, state.level)
                self.assertAlmostEqual(1 - free / 4.0, state.used)
                self.assertIsNone(find_limiting([state]))

    def test_no_swap_is_no_state(self):
        self.assertEqual([], states("swap", examination(machine(memory={"SwapTotal": 0.0}))))

    def test_growth_is_the_slope_that_half_of_all_pairs_exceed(self):
        at_s = LINE.at_s
        jump = [0.0] * 9 + [1e9, 1e9]
        self.assertAlmostEqual(5.0, growth(5.0 * at_s, at_s).typical)
        self.assertEqual(1.0, growth(5.0 * at_s, at_s).rising)
        self.assertEqual(0.0, growth(level(jump).values, at_s).typical)
        self.assertEqual((0.0, 0.0, 0.0), tuple(growth(at_s[:2], at_s[:2])))


class Disks(unittest.TestCase):
    def exam(self, *disks, stalled=None, applications=()):
        io = {} if stalled is None else {"io": rate(stalled, LINE)}
        return examination(machine(0.2, stalled=io), applications, physical_disks=list(disks))

    def test_busy_limits_only_when_somebody_waits(self):
        for what, wanted, busy, queue, stalled in (
            ("idle, others wait elsewhere", "calm", 0.1, 0.0, 0.9),
            ("busy, nobody waits", "busy", 1.0, 1.0, 0.0),
            ("full, and work waits", "strained", 0.95, 1.0, 0.4),
            ("a long queue with moments of rest", "strained", 0.8, 9.0, 0.4),
            ("the fuller, the less waiting is enough", "strained", 0.8, 1.0, 0.4),
            ("less waiting than that", "busy", 0.8, 1.0, 0.3),
            ("half full, half waited for", "strained", 0.61, 1.0, 0.51),
            ("less full than that", "busy", 0.61, 1.0, 0.4),
            ("work waits most of the time", "choked", 1.0, 1.0, 0.7),
        ):
            with self.subTest(what):
                (state,) = states("disk", self.exam(disk(LINE, busy, queue), stalled=stalled))
                self.assertEqual(wanted, state.level)

    def test_each_disk_stands_for_itself(self):
        result = states(
            "disk",
            self.exam(disk(LINE, 0.1, name="sda"), disk(LINE, 1.0, 9.0, name="sdb"), stalled=0.9),
        )
        self.assertEqual(
            {"sda": ("calm", 0.0), "sdb": ("choked", 0.9)},
            {item.name: (item.level, item.pressure) for item in result},
        )

    def test_the_answer_is_the_same_whether_delays_are_accounted_or_not(self):
        seen = level([0, 1, 1, 0, 1, 1, 1, 0, 1, 1, 1], LINE)
        for case, stalled, accounted, blocked, key, wanted in (
            ("stalls and delays", 0.9, 0.9, {"storage": seen}, "disk-held-up", "choked"),
            ("stalls", 0.9, 0.0, {"storage": seen}, "disk-held-up", "choked"),
            ("delays", None, 0.7, {}, "disk-held-up-tasks", "choked"),
            ("states at the ticks", None, 0.0, {"storage": seen}, "disk-held-up-seen", "choked"),
            ("nobody waits", None, 0.0, {}, "disk-held-up-seen", "busy"),
            # stall accounting does not know who waits for a journal's commit
            ("a commit", 0.2, 0.0, {"storage": seen}, "disk-held-up-seen", "choked"),
        ):
            copy = application(1, LINE, read_bytes_per_s=1e8, io_waiting=accounted)
            exam = self.exam(
                disk(LINE, 1.0),
                stalled=stalled,
                applications=[dataclasses.replace(copy, blocked=blocked)],
            )
            with self.subTest(case):
                (state,) = states("disk", exam)
                self.assertEqual(wanted, state.level)
                self.assertIn(key, keys(state.evidence))

    def test_who_drives_the_disk_is_no_victim_of_it(self):
        waits = {"storage": level([1] * 11, LINE)}
        for accounted in (0.9, 0.0):
            copy = application(1, LINE, read_bytes_per_s=1e8, io_waiting=accounted)
            reader = application(2, LINE, read_bytes_per_s=1e5, io_waiting=accounted)
            applications = [dataclasses.replace(item, blocked=waits) for item in (copy, reader)]
            exam = self.exam(disk(LINE, 1.0), stalled=0.9, applications=applications)
            with self.subTest(accounted):
                ranked = rank_culprits(exam, covered("disk"))
                self.assertEqual(
                    [("auk1", "cause"), ("auk2", "victim")],
                    [(item.application.name, item.role) for item in ranked],
                )

    def test_who_waits_for_its_own_work_is_held_up_by_a_disk_that_is_never_full(self):
        for what, busy, stalled, wanted in (
            ("a synchronous writer", 0.76, 0.65, "strained"),
            ("one reader", 0.7, 0.55, "strained"),
            ("work that waits for another disk", 0.3, 0.65, "calm"),
            ("a disk that keeps up", 0.76, 0.3, "busy"),
        ):
            with self.subTest(what):
                (state,) = states("disk", self.exam(disk(LINE, busy, 1.0), stalled=stalled))
                self.assertEqual(wanted, state.level)

    def test_small_requests_all_over_a_disk_count_by_the_time_that_they_take(self):
        small = application(1, LINE, read_bytes_per_s=0.3e6)
        large = application(2, LINE, write_bytes_per_s=1.6e6)
        quiet = application(3, LINE, read_bytes_per_s=[40e6] * 5 + [0.0] * 5)
        for spins, busy, first in ((True, 1.0, "auk1"), (True, [0.1] * 5 + [1.0] * 5, "auk1")):
            item = dataclasses.replace(
                disk(LINE, busy, 4.0, 0.04, spins=spins),
                read_bytes_per_s=rate(0.3e6, LINE),
                write_bytes_per_s=rate(1.6e6, LINE),
                reads_per_s=rate(75.0, LINE),
                writes_per_s=rate(12.0, LINE),
            )
            others = [quiet] if busy != 1.0 else []
            exam = self.exam(item, stalled=0.9, applications=[large, small, *others])
            with self.subTest(busy=busy):
                parts = dict(
                    zip(
                        [item.name for item in exam.applications],
                        RESOURCE_BY_WORD["disk"].demand(exam).parts,
                        strict=True,
                    )
                )
                self.assertEqual(first, max(parts, key=parts.get))
                self.assertAlmostEqual(1.0, sum(parts.values()))
                # while the disk was idle it did no harm
                self.assertEqual(0.0, parts.get("auk3", 0.0))

    def test_slow_is_what_one_request_takes_by_itself(self):
        for what, wanted, item in (
            (
                "a spinning disk that is busy and moves hardly anything",
                True,
                disk(LINE, 1.0, 1.0, 0.4, 1e5, spins=True),
            ),
            ("the same that moves a lot", False, disk(LINE, 1.0, 1.0, 0.4, 1e8, spins=True)),
            # 2 MB a second, and 69 ms for each request of 140 kB
            ("busy, and slow all the same", True, disk(LINE, 1.0, 1.0, 0.069, 1.4e5, spins=True)),
            ("as it should be", False, disk(LINE, 1.0, 1.0, 0.012, 1.4e5, spins=True)),
            (
                "requests that wait for one another",
                False,
                disk(LINE, 1.0, 30.0, 0.4, 1e5, spins=True),
            ),
            ("slow for a solid one only", True, disk(LINE, 1.0, 1.0, 0.05, 1e5, spins=False)),
            (
                "quick for a memory card",
                False,
                disk(LINE, 1.0, 1.0, 0.2, 1e5, spins=False, name="mmcblk0"),
            ),
            ("slow for one too", True, disk(LINE, 1.0, 1.0, 0.3, 1e5, spins=False, name="mmcblk0")),
            (
                "quick for one of another computer",
                False,
                disk(LINE, 1.0, 1.0, 0.09, 1e5, spins=False, name="rbd0"),
            ),
            ("fast enough for a spinning one", False, disk(LINE, 1.0, 1.0, 0.05, 1e5, spins=True)),
            ("idle", False, disk(LINE, 0.2, 1.0, 0.4, 1e5, spins=True)),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, bool(find_slow_disks(self.exam(item, stalled=0.5))))


class Room(unittest.TestCase):
    def state(self, used, inodes=None, read_only=False):
        about = SimpleNamespace(point="/home", read_only=read_only, size_bytes=1e9)
        exam = examination(machine(), storage=[Storage(about, 1, used, inodes)])
        return [(item.level, item.name, item.used) for item in states("storage", exam)]

    def test_room_and_inodes_alike(self):
        for used, inodes, wanted in (
            (0.5, None, "calm"),
            (0.96, None, "busy"),
            (0.985, None, "strained"),
            (1.0, None, "choked"),
            (0.1, 1.0, "choked"),
        ):
            with self.subTest(used=used, inodes=inodes):
                self.assertEqual(
                    [(wanted, "/home", max(used, inodes or 0.0))], self.state(used, inodes)
                )

    def test_what_cannot_fill_up_or_does_not_answer_is_left_out(self):
        self.assertEqual([], self.state(1.0, read_only=True))
        self.assertEqual([], self.state(None))


class Lines(unittest.TestCase):
    def test_a_link_is_full_when_its_queue_is_hardly_ever_empty(self):
        queued, now_and_then = [3000.0] * 11, [3000.0, 0.0, 0.0, 0.0, 0.0] * 2 + [0.0]
        for case, used, waiting, wanted in (
            ("no speed, and a queue", None, queued, "strained"),
            ("no speed, and hardly a queue", None, now_and_then, "calm"),
            ("a limit below its speed", 0.02, queued, "strained"),
            ("room on the line", 0.02, now_and_then, "calm"),
        ):
            line_ = dataclasses.replace(link(LINE, used), waiting_bytes=level(waiting, LINE))
            with self.subTest(case):
                (state,) = states("link", examination(machine(), outward_links=[line_]))
                self.assertIn(state.level, {wanted, "choked"} if wanted == "strained" else {wanted})
                self.assertIn("link-queued", keys(state.evidence))
        # nothing tells how full it is
        self.assertEqual([], states("link", examination(machine(), outward_links=[link(LINE)])))

    def test_the_fuller_the_worse_where_the_speed_is_known(self):
        for used, wanted in ((0.1, "calm"), (0.6, "busy"), (0.95, "strained"), (0.99, "choked")):
            with self.subTest(used):
                exam = examination(machine(), outward_links=[link(LINE, used), link(LINE)])
                self.assertEqual([wanted], [state.level for state in states("link", exam)])


class Cards(unittest.TestCase):
    def test_who_has_the_card_is_who_used_its_engines(self):
        cards = [
            SimpleNamespace(name="card0", busy=level(0.95, LINE)),
            SimpleNamespace(name="card1", busy=level([float("nan")] * 11)),
        ]
        drawing = application(1, LINE, graphics=0.8, cores=0.1)
        computing = application(2, LINE, graphics=0.1, cores=3.9)
        exam = examination(machine(0.9), [computing, drawing], graphics=cards)
        (state,) = states("gpu", exam)
        self.assertEqual(("strained", "card0"), (state.level, state.name))
        demand = RESOURCE_BY_WORD["gpu"].demand(exam)
        self.assertEqual("card", demand.unit)
        self.assertAlmostEqual(0.95, demand.whole.mean())
        ranked = rank_culprits(exam, covered("gpu"))
        self.assertEqual(["auk1", "auk2"], [item.name for item in ranked])
        # what no program says that it uses is nobody's part
        self.assertAlmostEqual(0.8 / 0.95, ranked[0].score)


class Heat(unittest.TestCase):
    def exam(self, celsius, clock=1.0, critical=100.0, throttles=None, busy=1.0):
        held = Machine(LINE, processors(LINE, clock=clock, user=busy))
        sensor = ProcessorSensor("coretemp", "package", level(celsius, LINE), critical, "package")
        counts = {} if throttles is None else {"core": rate(throttles, LINE)}
        return examination(held, [application(1, LINE, cores=4.0)], sensor=sensor, throttled=counts)

    def test_what_is_hot_limits_only_when_it_costs_clock(self):
        for what, wanted, figures in (
            ("cool", "calm", {"celsius": 60.0}),
            ("warm", "busy", {"celsius": 88.0}),
            ("hot, at its full clock", "busy", {"celsius": 97.0}),
            ("hot, and slower", "strained", {"celsius": 97.0, "clock": 0.8}),
            ("hot, and at half its clock", "choked", {"celsius": 97.0, "clock": 0.5}),
            (
                "slow by choice, because it is idle",
                "busy",
                {"celsius": 97.0, "clock": 0.5, "busy": 0.1},
            ),
            (
                "the kernel says that it was throttled",
                "strained",
                {"celsius": 97.0, "throttles": 3.0},
            ),
            ("and that it was not", "busy", {"celsius": 97.0, "throttles": 0.0}),
            (
                "the limit is not published, so one is assumed",
                "strained",
                {"celsius": 95.0, "clock": 0.8, "critical": None},
            ),
        ):
            with self.subTest(what):
                (state,) = states("heat", self.exam(**figures))
                self.assertEqual(wanted, state.level)

    def test_without_a_sensor_there_is_no_state(self):
        self.assertEqual([], states("heat", examination(machine(1.0))))


class Limiting(unittest.TestCase):
    @staticmethod
    def state(word, at="strained", pressure=0.5):
        return ResourceState(word, at, 0.9, pressure, [])

    def test_causes_before_effects_and_more_held_up_before_less(self):
        for wanted, given in (
            (None, [self.state("cpu", "busy")]),
            (None, [self.state("swap", "choked")]),
            ("heat", [self.state("cpu", "choked"), self.state("heat")]),
            ("memory", [self.state("disk", "choked"), self.state("memory")]),
            ("disk", [self.state("cpu"), self.state("disk", "choked")]),
            ("cpu", [self.state("cpu", pressure=0.6), self.state("disk", pressure=0.5)]),
            ("cpu", [self.state("core", "choked"), self.state("cpu")]),
            ("core", [self.state("storage", "choked"), self.state("core")]),
        ):
            with self.subTest(wanted=wanted, given=[item.resource for item in given]):
                result = find_limiting(given)
                self.assertEqual(wanted, result and result.resource)
                again = find_limiting(list(reversed(given)))
                self.assertIs(result, again)

    def test_what_lies_outside_explains_its_own_resource_only(self):
        limits = thresholds()
        stolen, slow = (
            Finding("stolen-time", "concern", None, [figure("cpu-steal", share)])
            for share in (0.5, 0.15)
        )
        disk_slow = Finding("disk-slow", "urgent", "sda", [figure("disk-busy", 1.0, name="sda")])
        for what, limiting, findings, wanted in (
            ("much was stolen", "cpu", [stolen], stolen),
            ("a little was", "cpu", [slow], None),
            ("a slow disk", "disk", [stolen, disk_slow], disk_slow),
            ("another resource", "memory", [stolen, disk_slow], None),
        ):
            with self.subTest(what):
                self.assertIs(wanted, find_external_cause(self.state(limiting), findings, limits))
        self.assertIsNone(find_external_cause(None, [disk_slow], limits))


class Ranking(unittest.TestCase):
    def ranked(self, *applications, word="cpu", **more):
        exam = examination(machine(1.0, **more), applications)
        return [
            (rank_culprit.name, rank_culprit.role)
            for rank_culprit in rank_culprits(exam, covered(word))
        ]

    def test_roles(self):
        loop = application(1, LINE, "loop", cores=3.0)
        mild = application(2, LINE, "mild", cores=0.8, waiting=0.1)
        kept = application(3, LINE, "kept", cores=0.05, waiting=0.3)
        own = application(4, LINE, "own", cores=2.0, observer=True)
        kernel = application(5, LINE, "kernel", cores=0.8, kernel=True)
        self.assertEqual(
            [("loop", "cause"), ("mild", "cause"), ("kernel", "symptom"), ("kept", "victim")],
            self.ranked(kept, kernel, own, mild, loop),
        )

    def test_who_gets_less_than_an_equal_part_and_waits_is_a_victim(self):
        crowd = application(1, LINE, "crowd", cores=3.2, waiting=5.0)
        for what, cores, waiting, role in (
            ("waits for a quarter of what it wants", 0.75, 0.25, "victim"),
            ("hardly waits", 0.95, 0.05, "cause"),
            ("takes as much as anybody", 1.6, 1.6, "cause"),
        ):
            other = application(2, LINE, "other", cores=cores, waiting=waiting)
            with self.subTest(what):
                self.assertIn(("other", role), self.ranked(crowd, other))
        alone = application(3, LINE, "alone", cores=1.5, waiting=0.9)
        self.assertEqual([("alone", "cause")], self.ranked(alone))

    def test_waiting_is_no_demand(self):
        crowd = application(1, LINE, "crowd", cores=0.1, waiting=300.0)
        loop = application(2, LINE, "loop", cores=3.9, waiting=0.2)
        self.assertEqual([("loop", "cause"), ("crowd", "victim")], self.ranked(crowd, loop))

    def test_many_small_ones_are_nobodys_fault(self):
        self.assertEqual([], self.ranked(*(application(n, LINE, cores=0.8) for n in range(1, 6))))

    def test_equal_partners_are_one_answer(self):
        for case, cores, partners in (
            ("alone", (3.0, 0.5), 0),
            ("two", (2.2, 1.6), 2),
            ("a third takes much less", (2.0, 1.4, 0.6), 2),
            ("four, each with little", (0.85, 0.8, 0.8, 0.75), 4),
        ):
            apps = [application(n, LINE, cores=amount) for n, amount in enumerate(cores, 1)]
            exam = examination(machine(1.0), apps)
            ranked = rank_culprits(exam, covered("cpu"))
            with self.subTest(case):
                self.assertEqual(partners, sum(culprit.is_partner for culprit in ranked))
                self.assertEqual(["cause"] * len(cores), [culprit.role for culprit in ranked])
                # the probability that one of them is the cause, not which of them
                self.assertEqual(1, len({c.confidence for c in ranked[: max(1, partners)]}))
                self.assertGreater(ranked[0].confidence, 0.7)

    def test_low_priority_work_is_blamed_for_heat_and_not_for_a_full_processor(self):
        low = application(1, LINE, "low", cores=2.0, low_priority=1.0)
        high = application(2, LINE, "high", cores=2.0)
        self.assertEqual([("high", "cause")], self.ranked(low, high))
        heat = self.ranked(low, high, word="heat")
        self.assertEqual({("high", "cause"), ("low", "cause")}, set(heat))

    def test_the_parts_never_add_up_to_more_than_all(self):
        figures = {
            "cores": 1.5,
            "waiting": 2.0,
            "private": GIB,
            "read_bytes_per_s": 1e6,
            "received_bytes_per_s": 1e6,
            "graphics": 0.5,
        }
        mixed = [application(number, LINE, **figures) for number in range(1, 5)]
        exam = examination(machine(1.0), mixed, physical_disks=[disk(LINE, 1.0, moved=4e6)])
        for word, resource in RESOURCE_BY_WORD.items():
            if resource.demand is not None:
                with self.subTest(word):
                    self.assertLessEqual(resource.demand(exam).parts.sum(), 1.0 + 1e-9)

    def test_confidence_grows_with_margin_length_and_what_could_be_attributed(self):
        limits = thresholds()

        def of(causes, coverage=1.0, intervals=30, taken=1.0):
            quality = data_quality(coverage, intervals, limits, taken)
            return confidence_of(0.9, causes, quality, limits)

        sure = of([0.9, 0.05])
        self.assertEqual(sure, of([0.9, 0.05], taken=0.6))
        for what, less in (
            ("a strong rival", of([0.9, 0.8])),
            ("few intervals", of([0.9, 0.05], intervals=2)),
            ("half attributed", of([0.9, 0.05], 0.5)),
            ("a third of the ticks", of([0.9, 0.05], taken=0.33)),
        ):
            with self.subTest(what):
                self.assertLess(less, sure - 0.02)
        self.assertLessEqual(sure, limits.confidence.most)


class LocalClients(unittest.TestCase):
    """Who is at the other end of a server's connections on this computer."""

    def socket(self, owner, local, remote=None, sent=0.0, state="established"):
        host, port = local
        far_host, far_port = remote or (None, None)
        facts = SocketFacts("tcp", 4, host, port, far_host, far_port)
        moved = rate(sent, LINE)
        count = round(moved.total())
        return SocketSeries(facts, [owner], state, False, moved, moved, count, count, 0, None)

    def clients_of_server(self, *, port=8080, sent=5e4, client_host="10.9.0.1"):
        server, client = (application(n, LINE, name) for n, name in ((1, "web"), (2, "asker")))
        tasks = [process(10, server, LINE), process(20, client, LINE)]
        exam = examination(machine(0.9), [server, client], tasks)
        one, other = (task.identity for task in tasks)
        exam.series.sockets = [
            self.socket(one, ("0.0.0.0", 8080), state="listen"),
            self.socket(one, ("10.9.0.1", port), ("10.9.0.1", 40000), sent),
            self.socket(other, (client_host, 40000), ("10.9.0.1", port), 1e3),
        ]
        found = find_local_clients(exam)
        return {
            (number, item.application.name, item.connections)
            for number, items in found.items()
            for item in items
        }

    def test_both_ends_have_the_same_ports_the_other_way_round(self):
        self.assertEqual({(1, "asker", 1)}, self.clients_of_server())
        for case, arguments in (
            ("it connected itself", {"port": 9999}),
            ("an idle connection", {"sent": 10.0}),
            ("another computer's", {"client_host": "10.9.0.7"}),
        ):
            with self.subTest(case):
                self.assertEqual(set(), self.clients_of_server(**arguments))

    def unix_clients(self, *connections, cores=0.5):
        """Whom the first process answers: connections are its client and whether it is asking."""
        server, *others = (
            application(n, LINE, name) for n, name in enumerate(("base", "asker", "idler"), 1)
        )
        tasks = [
            process(10, server, LINE, cores=cores),
            *(process(20 + n, each, LINE) for n, each in enumerate(others)),
        ]
        exam = examination(machine(0.9), [server, *others], tasks)
        exam.series.unix_connections = [
            UnixConnection(
                frozenset([tasks[0].identity]), frozenset([tasks[client].identity]), is_asking
            )
            for client, is_asking in connections
        ]
        found = find_local_clients(exam).get(1, [])
        return [(client.application.name, client.connections) for client in found]

    def test_over_unix_sockets_the_only_one_or_who_is_asking(self):
        only = [(1, False), (1, False)]
        self.assertEqual([("asker", 2)], self.unix_clients(*only))
        self.assertEqual([], self.unix_clients(*only, cores=0.01))
        self.assertEqual([], self.unix_clients((1, False), (2, False)))
        self.assertEqual([("idler", 1)], self.unix_clients((1, False), (2, True)))

    def test_real_time_priority_is_told_of_who_uses_a_cpu_with_it(self):
        exam = SimpleNamespace(limits=thresholds())
        for policy, cores, priority in (
            (1, 0.9, 50.0),
            (2, 0.9, 50.0),
            (0, 0.9, None),
            (1, 0.05, None),
        ):
            with self.subTest(policy=policy, cores=cores):
                tern = application(1, LINE, "tern", cores=cores)
                process(7, tern, LINE, cores=0.01)
                process(8, tern, LINE, cores=cores, policy=policy, rt_priority=50)
                told = [item.value for item in real_time_evidence(exam, tern)]
                self.assertEqual([priority] if priority else [], told)

    def test_a_log_service_works_for_who_wrote_most_of_its_last_lines(self):
        keeper, gull, cron = (
            application(n, LINE, name) for n, name in enumerate(("keeper", "gull", "cron"), 1)
        )
        tasks = [process(10 * each.number, each, LINE) for each in (keeper, gull, cron)]
        known = [task.identity for task in tasks]
        exam = examination(machine(0.9), [keeper, gull, cron], tasks)
        exam.series.log_ends = [
            LogEnd(
                known[0],
                200,
                [
                    LogWriter("gull-count", known[1], 90),
                    LogWriter("logger", None, 60),
                    LogWriter("keeper", known[0], 41),
                    LogWriter("cron", known[2], 9),
                ],
            )
        ]
        self.assertEqual({1: {"gull": 0.45, "logger": 0.3}}, find_log_writers(exam))
        (told,) = serving_evidence(exam, keeper)
        self.assertEqual(("app-logs", 0.75), (told.key, told.value))
        self.assertEqual([], serving_evidence(exam, gull))

    def test_who_shows_a_terminal_works_for_who_prints_much_into_it(self):
        window, flood, shell = (
            application(n, LINE, name) for n, name in enumerate(("window", "flood", "shell"), 1)
        )
        tasks = [process(10 * each.number, each, LINE) for each in (window, flood, shell)]
        exam = examination(machine(0.9), [window, flood, shell], tasks)
        known = [task.identity for task in tasks]
        exam.age_s = lambda task: 10.0
        exam.series.terminals = [
            ShownTerminal(known[0], [Printer(known[1], 5_000_000), Printer(known[2], 90_000)]),
            # a window that was opened by itself
            ShownTerminal(known[0], [Printer(known[0], 9_000_000)]),
            ShownTerminal(99, [Printer(known[1], 9_000_000)]),
        ]
        self.assertEqual({1: {"flood": 500_000.0}}, find_printers(exam))
        (told,) = serving_evidence(exam, window)
        self.assertEqual(("app-terminal", ["flood"]), (told.key, told.slots["which"]))

    def test_who_serves_a_file_system_works_for_who_waits_for_files_there(self):
        shelf, reader, other = (
            application(n, LINE, name) for n, name in enumerate(("shelf", "reader", "other"), 1)
        )
        exam = examination(machine(0.9), [shelf, reader, other])
        exam.series.surveyed.storage = [
            SimpleNamespace(about=FileSystem(point, kind, "x", False))
            for point, kind in (
                ("/mnt/a", "fuse.shelf"),
                ("/mnt/c", "fuse.shelf"),
                ("/mnt/b", "fuse.gone"),
                ("/", "ext4"),
            )
        ]
        exam.series.calls = {
            2: [
                CallUse("read", "/mnt/a/counts", 0.4, "folio_wait"),
                CallUse("openat", None, 0.6, None),
            ],
            3: [CallUse("read", "/mnt/another/counts", 1.0, "folio_wait")],
            # its own files are nobody's
            1: [CallUse("read", "/mnt/a/counts", 1.0, "folio_wait")],
        }
        self.assertEqual({1: {"reader": 0.4}}, find_file_clients(exam))
        self.assertEqual(["app-files"], [told.key for told in serving_evidence(exam, shelf)])


class Coverage(unittest.TestCase):
    def test_of_what_the_kernel_counted(self):
        seen = application(
            1, LINE, cores=1.5, private=1.0 * GIB, read_bytes_per_s=3e6, received_bytes_per_s=5e6
        )
        held = machine(0.5, memory={"AnonPages": 4.0})
        tunnel = link(LINE, received=1e7, name="tun0", physical=False)
        exam = examination(
            held,
            [seen],
            physical_disks=[disk(LINE, 0.5, moved=4e6)],
            outward_links=[link(LINE, received=1e7), tunnel],
        )
        held.interrupt_cores = rate(0.1, LINE)
        self.assertEqual(
            {"cpu": 0.8, "memory": 0.25, "disk": 0.75, "link": 0.5},
            {word: round(share, 6) for word, share in find_coverage(exam).items()},
        )

    def test_where_nothing_moved_there_is_nothing_to_attribute(self):
        held = machine(0.0)
        held.interrupt_cores = rate(0.0, LINE)
        self.assertEqual({None}, set(find_coverage(examination(held)).values()))
