"""Rules of findings on figures written down by hand: what is just enough, and just not."""

import dataclasses
import unittest
from datetime import datetime
from types import SimpleNamespace

import numpy as np

from dunmist.computer import (
    Disk,
    FileSystem,
    FrozenGroup,
    KnownUpdates,
    MemoryEvents,
    Sensor,
    TaskLimit,
    Unit,
)
from dunmist.computer.boot import Boot, StartedUnit
from dunmist.computer.boot_history import ComputerStart
from dunmist.computer.crashes import Crash
from dunmist.computer.known_updates import KnownUpdate
from dunmist.computer.pending_restart import Pending
from dunmist.diagnosis import findings
from dunmist.diagnosis.findings.rules import rules_of
from dunmist.diagnosis.records import ResourceState
from dunmist.diagnosis.strained_resources import StrainedResources
from dunmist.sampling import Survey
from dunmist.series import KernelMessageSeries, ProcessorSensor, Storage, Surveyed
from dunmist.series.sensors import SensorSeries
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
    sample,
)
from tests.handmade import rate as rate_on

LINE = line(10)
NOTHING = StrainedResources([])


def found(subject, exam, strained=NOTHING):
    """Return what the rules of a module find."""
    return [item for rule in rules_of(subject) for item in rule.findings(exam, strained)]


def kinds(subject, exam, strained=NOTHING):
    """Return the kinds, and whom each is about."""
    return {
        (item.kind, item.application.name if item.application else None)
        for item in found(subject, exam, strained)
    }


def machine(busy=0.2, **more):
    return Machine(LINE, processors(LINE, 4, user=busy), **more)


def strained_by(word, used=0.99, name=None):
    return StrainedResources([ResourceState(word, "strained", used, 0.5, [], name=name)])


class Processors(unittest.TestCase):
    def findings_of(self, *applications, strained=NOTHING, of=None, processes=(), **devices):
        exam = examination(
            of or machine(),
            applications,
            processes,
            interrupts=devices.pop("interrupts", {}),
            **devices,
        )
        return kinds(findings.cpu, exam, strained)

    def test_who_uses_processors_all_the_time(self):
        for what, wanted, figures in (
            ("more than half of all", {("cpu-hog", "tern")}, {"cores": 2.1}),
            ("less", {("steady-background", "tern")}, {"cores": 1.9}),
            ("a little, always", {("steady-background", "tern")}, {"cores": 0.2}),
            ("less than is worth a word", set(), {"cores": 0.1}),
            ("now and then", set(), {"cores": [2.0, 0.0, 0.0, 0.0, 0.0] * 2}),
            (
                "gives way to others",
                {("steady-background", "tern")},
                {"cores": 3.0, "low_priority": 0.9},
            ),
            ("Dunmist itself", set(), {"cores": 3.0, "observer": True}),
            ("the kernel", {("kernel-busy", "tern")}, {"cores": 0.6, "kernel": True}),
            ("the kernel, a little", set(), {"cores": 0.4, "kernel": True}),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.findings_of(application(1, LINE, "tern", **figures)))

    def test_a_storm_needs_both_forks_and_use(self):
        for forks, cores, wanted in ((50, 0.5, True), (30, 0.5, False), (50, 0.1, False)):
            with self.subTest(forks=forks, cores=cores):
                host = machine()
                host.forks_per_s = rate_on(float(forks), LINE)
                starter = application(1, LINE, "gull", short_lived_cores=cores)
                other = application(2, LINE, "auk", cores=0.1)
                result = self.findings_of(other, starter, of=host)
                self.assertEqual(wanted, ("spawn-storm", "gull") in result)

    def test_many_threads_matter_where_processors_are_short(self):
        for threads, waiting, strained, wanted in (
            (200, 5.0, strained_by("cpu"), True),
            (200, 5.0, NOTHING, False),
            (50, 5.0, strained_by("cpu"), False),
            (200, 0.2, strained_by("cpu"), False),
        ):
            with self.subTest(threads=threads, waiting=waiting):
                crowd = application(1, LINE, "auk", waiting=waiting)
                many = process(7, crowd, LINE, threads=threads)
                result = self.findings_of(crowd, strained=strained, processes=[many])
                self.assertEqual(wanted, ("thread-swarm", "auk") in result)

    def test_what_is_taken_from_processors(self):
        for what, spent, wanted in (
            ("stolen", {"steal": 0.2}, {("stolen-time", None)}),
            ("a little", {"steal": 0.05}, set()),
            ("interrupts", {"irq": 0.2, "softirq": 0.15}, {("interrupt-storm", None)}),
            ("fewer", {"irq": 0.1, "softirq": 0.1}, set()),
            ("packets within it", {"irq": 0.01, "softirq": 0.4}, set()),
        ):
            with self.subTest(what):
                host = Machine(LINE, processors(LINE, 4, **spent))
                self.assertEqual(wanted, self.findings_of(of=host))

    def test_only_a_device_is_a_storm_of_interrupts(self):
        host = Machine(LINE, processors(LINE, 4, softirq=0.4))
        device, calls = "44 IR-PCI-MSI 327680-edge xhci_hcd", "CAL Function call interrupts"
        for counts, wanted in (
            ({device: 90_000, calls: 400_000}, set()),
            ({device: 400_000, calls: 90_000}, {("interrupt-storm", None)}),
            ({device: 400_000, "LOC Local timer interrupts": 900_000}, {("interrupt-storm", None)}),
        ):
            with self.subTest(counts):
                self.assertEqual(wanted, self.findings_of(of=host, interrupts=counts))

    def test_a_low_clock_is_told_only_of_busy_processors_that_are_not_hot(self):
        for clock, base, busy, strained, wanted in (
            (0.3, None, 0.9, NOTHING, True),
            (0.8, None, 0.9, NOTHING, False),
            (0.3, None, 0.3, NOTHING, False),
            (0.3, None, 0.9, strained_by("heat"), False),
            # with all at work a thin computer has less than half of its greatest clock
            (0.45, None, 0.9, NOTHING, False),
            (0.45, 0.4, 0.9, NOTHING, False),
            (0.45, 0.6, 0.9, NOTHING, True),
        ):
            with self.subTest(clock=clock, base=base, busy=busy):
                host = Machine(LINE, processors(LINE, 4, clock=clock, base=base, user=busy))
                host.most_clock_hz = 3e9
                self.assertEqual(
                    wanted, ("low-clock", None) in self.findings_of(of=host, strained=strained)
                )


class Memory(unittest.TestCase):
    def findings_of(self, *applications, strained=NOTHING, of=None):
        exam = examination(of or machine(), applications)
        exam.series.header.inventory = SimpleNamespace(firmware=None)
        return kinds(findings.memory, exam, strained)

    def grown(self, values, *, of_living=1.0):
        item = application(1, LINE, "gull")
        item.private_bytes = level(values, LINE)
        # an application that has run for hours
        process(7, item, LINE, private=[of_living * value for value in values])
        return item

    def test_who_holds_it(self):
        for held, wanted in ((4.5, {("memory-hog", "tern")}), (3.5, set())):
            with self.subTest(held):
                item = application(1, LINE, "tern", private=held * GIB)
                self.assertEqual(wanted, self.findings_of(item))

    def test_growth_is_no_jump_and_no_start(self):
        steady = [1e8 + 2e6 * tick for tick in range(11)]
        for what, values, wanted in (
            ("steadily", steady, {("memory-leak", "gull")}),
            ("too slowly", [1e8 + 1e5 * tick for tick in range(11)], set()),
            ("at once", [1e8] * 7 + [2e8] * 4, set()),
            ("in the first half only", steady[:5] + [steady[5]] * 6, set()),
            ("up and down", [1e8 + 2e7 * (tick % 2) for tick in range(11)], set()),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, self.findings_of(self.grown(values)))
        # more and more processes of one name
        self.assertEqual(set(), self.findings_of(self.grown(steady, of_living=0.3)))

    def test_too_little_is_told_from_a_limit(self):
        reader = application(1, LINE, "auk", major_faults_per_s=50.0)
        for used, wanted in ((0.95, ("memory-short", None)), (0.4, ("memory-limited", "auk"))):
            with self.subTest(used):
                self.assertIn(
                    wanted, self.findings_of(reader, strained=strained_by("memory", used))
                )

    def test_pages_are_written_out_in_bursts(self):
        host = machine()
        # each third second much goes out; what comes back is wanted all the time
        out = [0.0, 0.0, 6000.0] * 3 + [0.0]
        host.paging = {"pswpin": rate_on(900.0, LINE), "pswpout": rate_on(out, LINE)}
        self.assertIn(("paging-storm", None), self.findings_of(of=host))
        host.paging["pswpin"] = rate_on([0.0, 0.0, 0.0, 9000.0] + [0.0] * 6, LINE)
        self.assertNotIn(("paging-storm", None), self.findings_of(of=host))

    def test_whose_memory_ran_out(self):
        group, above = MemoryEvents("/a/fit.service", 2, 2, 1 << 26), MemoryEvents("/a", 2, 3, None)
        for case, before, after, subject, key in (
            ("the computer's", [], [MemoryEvents("/a", 0, 1, None)], None, None),
            ("a group's", [], [above, group], "fit.service", "oom-group"),
            ("it had been so before", [above, group], [above, group], None, None),
            # the group was made anew, and counts from nought: those above it know
            ("a group's that is new", [], [above], "fit.service", "oom-below"),
        ):
            host = machine()
            host.paging = {"oom_kill": rate_on([0.0] * 9 + [1.0], LINE)}
            fit = application(1, LINE, "fit")
            # what is just ending holds nothing any more
            ended, other = self.ended(7, fit, 0.0), self.ended(8, fit, 2e6)
            exam = examination(host, [fit], [other, ended])
            exam.series.header.inventory = SimpleNamespace(firmware=None)
            exam.series.header.machine.page_bytes = 4096
            exam.series.surveyed = Surveyed(
                [
                    Survey(tick=0, is_last=False, memory_events=before),
                    Survey(
                        tick=9,
                        is_last=True,
                        memory_events=after,
                        units=[Unit("fit.service", active="failed", result="oom-kill")],
                    ),
                ]
            )
            (result,) = found(findings.memory, exam)
            evidence = {figure.key: figure for figure in result.evidence}
            with self.subTest(case):
                self.assertEqual(("oom-kill", subject), (result.kind, result.subject))
                self.assertEqual(
                    key,
                    next(
                        (
                            figure
                            for figure in evidence
                            if figure.startswith("oom-g") or figure == "oom-below"
                        ),
                        None,
                    ),
                )
                self.assertEqual(
                    ("fit", 7.0, 4_096_000.0),
                    (
                        evidence["oom-victim"].slots["name"],
                        evidence["oom-victim"].slots["pid"],
                        evidence["oom-victim"].value,
                    ),
                )

    def ended(self, pid, of, last_bytes):
        made = process(pid, of, LINE, cgroup="/a/fit.service")
        held = level([*[4_096_000.0 if pid == 7 else 2e6] * 8, last_bytes, np.nan, np.nan], LINE)
        made.ended_row, made.last = 9, sample(pid, rss_pages=last_bytes / 4096)
        made.figures.level = {"rss_bytes": held}.__getitem__
        return made

    def test_the_kernel_s_log_says_whom_it_ended(self):
        host, fit = machine(), application(1, LINE, "fit")
        host.paging = {"oom_kill": rate_on([0.0] * 9 + [1.0], LINE)}
        for during, key, pid in ((1, "oom-told", 8), (0, "oom-victim", 7)):
            exam = examination(host, [fit], [self.ended(7, fit, 0.0), self.ended(8, fit, 0.0)])
            exam.series.header.inventory = SimpleNamespace(firmware=None)
            exam.series.surveyed = Surveyed([])
            exam.series.complaints = [
                KernelMessageSeries(
                    "out-of-memory", "fit", 1, during, 3.0, 3.0, "Killed process 8", 8
                )
            ]
            (result,) = found(findings.memory, exam)
            with self.subTest(during=during):
                self.assertEqual(
                    [(key, float(pid))],
                    [
                        (figure.key, figure.slots["pid"])
                        for figure in result.evidence
                        if "pid" in figure.slots
                    ],
                )

    def test_paging_goes_both_ways(self):
        for paging, wanted in (
            ({"pswpin": 900.0, "pswpout": 900.0}, True),
            ({"pswpout": 9000.0, "pswpin": 0.0}, False),
        ):
            with self.subTest(paging):
                host = machine(paging=paging)
                host.paging = {word: rate_on(value, LINE) for word, value in paging.items()}
                self.assertEqual(wanted, ("paging-storm", None) in self.findings_of(of=host))


class Computer(unittest.TestCase):
    def test_since_when_and_how_many_tasks(self):
        day_s = 86_400.0
        for what, uptime_s, tasks, wanted in (
            ("just started", 600.0, 100.0, {("recent-restart", None)}),
            ("yesterday", day_s, 100.0, set()),
            ("months ago", 90 * day_s, 100.0, {("long-uptime", None)}),
            ("nearly as many tasks as may be", day_s, 900.0, {("limit-near", None)}),
        ):
            with self.subTest(what):
                host = machine(uptime_s=uptime_s)
                host.tasks = level(tasks, LINE)
                exam = examination(host)
                exam.series.header.inventory = SimpleNamespace(
                    tasks_most=1000, starts=[], crashes=[]
                )
                exam.series.header.started = "2031-05-14T10:00:00+02:00"
                exam.series.surveyed.last = None
                self.assertEqual(wanted, kinds(findings.machine, exam))

    def test_a_group_at_its_limit_of_tasks(self):
        service = "/system.slice/tern.service"
        for path, tasks, refused, wanted in (
            (service, 80, 0, [("limit-near", "concern", "tern.service")]),
            (service, 100, 3, [("limit-near", "urgent", "tern.service")]),
            (service, 79, 3, []),
            (f"{service}/nest", 80, 0, [("limit-near", "concern", f"{service}/nest")]),
        ):
            with self.subTest(path=path, tasks=tasks):
                exam = examination(machine())
                exam.series.surveyed.task_limits = [TaskLimit(path, tasks, 100, refused)]
                found = findings.machine._tasks_of_groups(exam)
                self.assertEqual(
                    wanted, [(each.kind, each.severity, each.subject) for each in found]
                )


class Waiting(unittest.TestCase):
    """What waits for a restart, what is newer, and what went down: one finding each, with dates."""

    STARTED = "2031-05-14T10:00:00+02:00"
    NOW_S = datetime.fromisoformat(STARTED).timestamp()
    DAY_S = 86_400.0

    def exam(self, *, starts=(), crashes=(), replaced=(), **last):
        exam = examination(machine(uptime_s=self.DAY_S))
        header = exam.series.header
        header.started = self.STARTED
        header.machine.kernel = "6.1.0-9"
        header.inventory = SimpleNamespace(
            tasks_most=None, starts=list(starts), crashes=list(crashes)
        )
        words = {"pending": None, "updates": None, "boot": None, "time_sync": None, **last}
        exam.series.surveyed.last = SimpleNamespace(**words)
        exam.series.surveyed.replaced = list(replaced)
        return exam

    def findings_of(self, kind, **told):
        exam = self.exam(**told)
        every = [
            item
            for rule in (findings.machine._waiting, findings.machine._starts)
            for item in rule(exam)
        ]
        return {
            figure.key: figure for item in every if item.kind == kind for figure in item.evidence
        }

    def updates(self, count=1, listed_s=None):
        known = [KnownUpdate(f"auk-{number}", "1.0", "1.1") for number in range(count)]
        return KnownUpdates(known, listed_s)

    def test_newer_versions_are_a_finding_of_their_own_only_where_nothing_else_waits(self):
        evidence = self.findings_of(
            "updates-known", updates=self.updates(2, self.NOW_S - self.DAY_S)
        )
        self.assertEqual({"updates-known", "lists-age"}, set(evidence))
        self.assertEqual(2.0, evidence["updates-known"].value)
        asked = Pending(asked_s=self.NOW_S - 3 * self.DAY_S)
        self.assertEqual(
            {}, self.findings_of("updates-known", updates=self.updates(), pending=asked)
        )
        joined = self.findings_of("restart-waiting", updates=self.updates(), pending=asked)
        self.assertEqual({"restart-asked", "updates-known"}, set(joined))
        self.assertAlmostEqual(3 * self.DAY_S, joined["restart-asked"].value)

    def test_lists_without_anything_newer_say_nothing(self):
        self.assertEqual({}, self.findings_of("updates-known", updates=self.updates(0, self.NOW_S)))
        self.assertEqual({}, self.findings_of("updates-known"))

    def test_a_clock_that_is_behind_makes_no_negative_age(self):
        evidence = self.findings_of(
            "updates-known", updates=self.updates(1, self.NOW_S + self.DAY_S)
        )
        self.assertEqual(0.0, evidence["lists-age"].value)

    def test_an_older_kernel_and_replaced_files_are_told_together(self):
        evidence = self.findings_of(
            "restart-waiting",
            pending=Pending(newest_kernel="6.1.0-12"),
            replaced=["/usr/bin/auk", "/usr/bin/tern"],
        )
        self.assertEqual({"kernel-older", "files-replaced"}, set(evidence))
        self.assertEqual(2.0, evidence["files-replaced"].value)

    def test_only_crashes_of_the_last_week_count(self):
        ages = (1, 6, 8, -1)
        crashes = [Crash(self.NOW_S - days * self.DAY_S, "lost") for days in ages]
        evidence = self.findings_of("unclean-restart", crashes=crashes)
        self.assertEqual(2.0, evidence["crash-records"].value)
        old = self.findings_of("unclean-restart", crashes=crashes[2:])
        self.assertEqual({}, old)

    def test_one_power_cut_is_a_note_and_a_crash_or_two_cuts_are_not(self):
        cut = ComputerStart(self.NOW_S - self.DAY_S, after_order=False)
        other = ComputerStart(self.NOW_S - 2 * self.DAY_S, after_order=False)
        fine = ComputerStart(self.NOW_S - 3 * self.DAY_S, after_order=True)
        unknown = ComputerStart(self.NOW_S - 4 * self.DAY_S, after_order=None)
        crash = Crash(self.NOW_S - self.DAY_S)
        for starts, crashes, wanted in (
            ([cut, fine, unknown], [], ["note"]),
            ([cut, other], [], ["concern"]),
            ([fine, unknown], [], []),
            ([cut], [crash], ["concern"]),
            ([], [crash], ["concern"]),
        ):
            exam = self.exam(starts=starts, crashes=crashes)
            result = findings.machine._starts(exam)
            with self.subTest(starts=len(starts), crashes=len(crashes)):
                self.assertEqual(wanted, [item.severity for item in result])


class Starting(unittest.TestCase):
    """A start that took long: which part, and which unit the others waited for."""

    def findings_of(self, boot):
        exam = examination(machine())
        exam.series.surveyed.last = SimpleNamespace(boot=boot)
        return findings.machine._slow_start(exam)

    def test_a_part_counts_by_its_own_limit(self):
        for boot, wanted in (
            (None, []),
            (Boot(services_s=20.0, kernel_s=3.0), []),
            (Boot(services_s=118.0), [None]),
            (Boot(firmware_s=90.0, services_s=9.0), [None]),
        ):
            with self.subTest(boot=boot):
                self.assertEqual(wanted, [item.subject for item in self.findings_of(boot)])

    def test_the_longest_of_those_that_were_waited_for_is_named(self):
        chain = [
            StartedUnit("desk.target", 118.0, 118.0),
            StartedUnit("auk.service", 97.0, 118.0),
            StartedUnit("srv.mount", 10.0, 81.0),
        ]
        beside = [StartedUnit("side.service", 1.0, 117.0)]
        boot = Boot(services_s=118.0, chain=chain, slowest=beside, is_cut=True)
        (item,) = self.findings_of(boot)
        self.assertEqual("srv.mount", item.subject)
        waited = [(figure.key, figure.value) for figure in item.evidence[1:]]
        self.assertEqual(
            [
                ("start-waited-for", 21.0),
                ("start-waited-for", 71.0),
                ("start-gap", 16.0),
                ("start-cut", 1.0),
            ],
            waited,
        )


class Devices(unittest.TestCase):
    def findings_of(self, *applications, strained=NOTHING, sockets=(), processes=(), **devices):
        devices = {"physical_disks": [], "outward_links": [], **devices}
        devices.setdefault("links", devices["outward_links"])
        exam = examination(machine(), applications, processes, **devices)
        exam.series.sockets = list(sockets)
        return kinds(findings.devices, exam, strained)

    def test_room_and_inodes(self):
        for used, inodes, read_only, wanted in (
            (0.96, None, False, {"storage-full"}),
            (0.94, 0.1, False, set()),
            (0.2, 0.96, False, {"inodes-full"}),
            (1.0, 1.0, False, {"storage-full", "inodes-full"}),
            (1.0, 1.0, True, set()),
            (None, None, False, set()),
        ):
            with self.subTest(used=used, inodes=inodes, read_only=read_only):
                about = FileSystem("/srv", "ext4", "/dev/sda1", read_only, size_bytes=10**9)
                result = self.findings_of(storage=[Storage(about, 1, used, inodes)])
                self.assertEqual(wanted, {kind for kind, _ in result})

    def test_a_file_system_that_is_full_within_the_hour(self):
        writer = application(1, LINE, "auk", write_bytes_per_s=30e6)
        span_s = LINE.duration_s
        for what, filled, available, wanted in (
            ("in a quarter of an hour", 20e6 * span_s, 18e9, {"storage-filling"}),
            ("in two hours", 20e6 * span_s, 144e9, set()),
            ("a little", 50e6, 1e6, set()),
            ("it gets emptier", -20e6 * span_s, 1e9, set()),
            ("nobody knows", None, 1e9, set()),
        ):
            with self.subTest(what):
                about = FileSystem(
                    "/srv", "ext4", "/dev/sda1", False, size_bytes=10**12, available_bytes=available
                )
                exam = examination(
                    machine(),
                    [writer],
                    storage=[Storage(about, 1, 0.5, 0.1)],
                    filled_bytes={"/srv": filled},
                )
                result = found(findings.devices, exam)
                self.assertEqual(wanted, {item.kind for item in result})
                if wanted:
                    evidence = {figure.key: figure for figure in result[0].evidence}
                    self.assertAlmostEqual(900.0, evidence["storage-fills"].slots["full"], places=3)
                    self.assertEqual("auk", evidence["storage-writer"].slots["name"])

    def test_disks_and_who_they_hold_up(self):
        slow = disk(LINE, 1.0, 1.0, 0.4, 1e5, spins=True)
        fast = disk(LINE, 1.0, 1.0, 0.001, 1e8, spins=True)
        waits = application(1, LINE, "auk", io_waiting=0.5)
        for what, item, strained, wanted in (
            (
                "slow by itself",
                slow,
                strained_by("disk", name="sda"),
                {("disk-slow", None), ("blocked-on-disk", "auk")},
            ),
            (
                "full",
                fast,
                strained_by("disk", name="sda"),
                {("disk-saturated", None), ("blocked-on-disk", "auk")},
            ),
            ("nobody waits", fast, NOTHING, set()),
            (
                "pages are what they wait for",
                fast,
                StrainedResources(
                    [*strained_by("disk", name="sda").states, *strained_by("memory").states]
                ),
                set(),
            ),
        ):
            with self.subTest(what):
                result = self.findings_of(waits, strained=strained, physical_disks=[item])
                self.assertEqual(wanted, result)

    def test_frames_and_segments(self):
        for errors, sent, again, wanted in (
            (2.0, 0, 0, True),
            (0.1, 0, 0, False),
            (0.0, 1000, 50, True),
            (0.0, 1000, 10, False),
            (0.0, 100, 50, False),
        ):
            with self.subTest(errors=errors, sent=sent, again=again):
                line_ = dataclasses.replace(link(LINE), errors_per_s=rate_on(errors, LINE))
                line_.about.is_default = True
                tcp = {"TcpOutSegs": sent, "TcpRetransSegs": again}
                result = self.findings_of(outward_links=[line_], tcp=tcp)
                self.assertEqual(wanted, ("link-errors", None) in result)

    def talking(self, address, to, sent, again):
        facts_ = SimpleNamespace(protocol="tcp", local=address, remote=to, local_port=1)
        return SimpleNamespace(
            facts=facts_,
            sent_segments=sent,
            retransmitted=again,
            owners=[],
            listens=False,
            ended=False,
            is_loopback=False,
        )

    def test_segments_are_told_of_the_link_that_they_went_over(self):
        good, bad = link(LINE, name="eth0"), link(LINE, name="eth1", received=1.0)
        good.about.addresses, bad.about.addresses = ["10.1.0.2"], ["10.9.0.1", "fd00::1"]
        good.about.is_default = True
        sockets = [
            self.talking("10.1.0.2", "10.1.0.9", 900, 2),
            self.talking("::ffff:10.9.0.1", "::ffff:10.9.0.2", 400, 60),
        ]
        exam = examination(
            machine(),
            links=[good, bad],
            outward_links=[good, bad],
            tcp={"TcpOutSegs": 1300, "TcpRetransSegs": 62},
        )
        exam.series.sockets = sockets
        (result,) = found(findings.devices, exam)
        (sent_again,) = result.evidence
        self.assertEqual(
            ("link-errors", "eth1", 0.15, ["10.9.0.2"]),
            (result.kind, result.subject, sent_again.value, sent_again.slots["who"]),
        )

    def test_file_systems_that_do_not_answer(self):
        far = FileSystem("/far", "nfs4", "cliff:/srv", False, unanswered=True)
        looks = process(7, application(1, LINE, "tern"), LINE)
        looks.last = sample(7, state="D", waits_in="rpc_wait_bit_killable")
        exam = examination(
            machine(), [looks.application], [looks], storage=[Storage(far, None, None, None)]
        )
        (result,) = found(findings.devices, exam)
        self.assertEqual(("file-system-unanswered", "/far"), (result.kind, result.subject))
        silent, waits = result.evidence
        self.assertEqual(("nfs4", "cliff:/srv"), (silent.slots["kind"], silent.slots["server"]))
        self.assertEqual(["tern"], waits.slots["who"])

    def test_the_fullest_comes_first(self):
        rooms = [
            Storage(FileSystem(point, "ext4", "/dev/x", False, size_bytes=10**9), 1, used, 0.1)
            for point, used in (("/a", 0.96), ("/b", 1.0), ("/c", 0.97))
        ]
        exam = examination(machine(), storage=rooms)
        result = [item.subject for item in found(findings.devices, exam)]
        self.assertEqual(["/b", "/c", "/a"], result)

    def test_what_goes_on_all_the_time(self):
        for what, moved, strained, wanted in (
            ("steadily", 2e5, NOTHING, True),
            ("little", 5e4, NOTHING, False),
            ("now and then", [1e6, 0.0, 0.0, 0.0, 0.0] * 2, NOTHING, False),
            ("on a full line it is told otherwise", 2e5, strained_by("link"), False),
        ):
            with self.subTest(what):
                item = application(1, LINE, "tern", sent_bytes_per_s=moved)
                self.assertEqual(
                    wanted, ("steady-transfer", "tern") in self.findings_of(item, strained=strained)
                )

    def listening(self, owner, address="0.0.0.0", port=8080, protocol="tcp", **more):
        facts_ = SimpleNamespace(
            protocol=protocol, local=address, local_port=port, remote_port=None
        )
        return SimpleNamespace(
            facts=facts_,
            owners=[owner.identity],
            listens=True,
            ended=False,
            is_loopback=address.startswith("127."),
            **more,
        )

    def test_ports(self):
        tern, gull = application(1, LINE, "tern"), application(2, LINE, "gull")
        mine, service = process(7, tern, LINE), process(8, gull, LINE)
        mine.facts, service.facts = facts(7, uid=1000), facts(8, uid=33)
        for what, sockets, wanted in (
            ("a person's, open", [self.listening(mine)], {("open-port", "tern")}),
            ("a service's", [self.listening(service)], set()),
            ("for this computer only", [self.listening(mine, "127.0.0.1")], set()),
            ("not of TCP", [self.listening(mine, protocol="udp")], set()),
            (
                "two of them",
                [self.listening(service), self.listening(mine, "127.0.0.1")],
                {("port-conflict", None)},
            ),
            (
                "two ports",
                [self.listening(service), self.listening(mine, "127.0.0.1", 8081)],
                set(),
            ),
        ):
            with self.subTest(what):
                self.assertEqual(
                    wanted, self.findings_of(tern, gull, sockets=sockets, processes=[mine, service])
                )


class Processes(unittest.TestCase):
    def findings_of(self, *processes, strained=NOTHING, surveys=()):
        exam = examination(machine(), [item.application for item in processes], processes)
        exam.series.surveyed.surveys = list(surveys)
        return kinds(findings.processes, exam, strained)

    def process(self, pid=7, state="S", **more):
        made = process(pid, application(pid, LINE, f"auk{pid}"), LINE, **more)
        made.last = sample(pid, state=state, waits_in="nfs_wait")
        return made

    def test_stuck_is_who_did_nothing_but_wait(self):
        for what, item, strained, wanted in (
            ("uninterruptibly", self.process(state="D"), NOTHING, True),
            ("stopped", self.process(state="T"), NOTHING, True),
            ("asleep", self.process(), NOTHING, False),
            ("it asks again now and then", self.process(state="D", cores=0.002), NOTHING, True),
            ("it ran meanwhile", self.process(state="D", cores=0.1), NOTHING, False),
            (
                "for a disk, which is told otherwise",
                self.process(state="D"),
                strained_by("disk"),
                False,
            ),
        ):
            with self.subTest(what):
                self.assertEqual(
                    wanted, ("stuck-process", "auk7") in self.findings_of(item, strained=strained)
                )

    def test_several_of_one_program_are_one_finding_with_a_count(self):
        auk, tern = application(1, LINE, "auk"), application(2, LINE, "tern")
        stopped = [process(pid, auk, LINE) for pid in (7, 8, 9)] + [process(10, tern, LINE)]
        for item in stopped:
            item.last = sample(item.pid, state="T")
        exam = examination(machine(), [auk, tern], stopped)
        told = {
            item.application.name: [figure.key for figure in item.evidence]
            for item in findings.processes._stuck(exam, NOTHING)
        }
        self.assertEqual({"auk": ["state-T", "stuck-processes"], "tern": ["state-T"]}, told)

    def test_a_lock_counts_when_it_is_waited_for_all_the_time(self):
        held = SimpleNamespace(locks=[SimpleNamespace(waiter=7, holder=8)])
        free = SimpleNamespace(locks=[])
        for surveys, wanted in (([held, held], True), ([held, free], False), ([held], False)):
            with self.subTest([len(survey.locks) for survey in surveys]):
                result = self.findings_of(self.process(7), self.process(8), surveys=surveys)
                self.assertEqual(wanted, ("lock-wait", "auk7") in result)

    def test_a_forged_capture_names_no_file_outside_of_the_groups(self):
        for path, wanted in (("/a.scope", {"group-frozen"}), ("/../../../etc", set())):
            task = self.process(7, cgroup=path)
            exam = examination(machine(), [task.application], [task])
            exam.series.surveyed.frozen_groups = [FrozenGroup(path, "sys/fs/cgroup")]
            self.assertEqual(wanted, {kind for kind, _ in kinds(findings.processes, exam, NOTHING)})

    def test_ended_ones_that_nobody_waits_for(self):
        for count, wanted in ((20, {("defunct-pile", "auk1")}), (19, set())):
            with self.subTest(count):
                children = [self.process(pid, state="Z") for pid in range(100, 100 + count)]
                self.assertEqual(wanted, self.findings_of(self.process(1), *children))

    def test_descriptors(self):
        for first, last, limit, wanted in (
            (10, 60, 1024, {"descriptor-leak"}),
            (10, 24, 1024, set()),
            (900, 900, 1024, {"limit-near"}),
            (900, 900, None, set()),
            # a sandboxed child gives itself a limit below what it has
            (7, 7, 1, set()),
            (900, 900, 800, set()),
            (15, 15, 16, set()),
            (None, 20, 1024, set()),
        ):
            with self.subTest(first=first, last=last, limit=limit):
                item = self.process()
                item.first_detail, item.detail = (
                    SimpleNamespace(descriptors=count, descriptor_limit=limit)
                    for count in (first, last)
                )
                self.assertEqual(wanted, {kind for kind, _ in self.findings_of(item)})

    def test_who_has_just_started_opens_what_it_needs(self):
        for start_clk, last, wanted in (
            (7, 60, ["concern"]),
            (99_900 * 100, 60, ["note"]),
            (99_900 * 100, 600, ["concern"]),
        ):
            item = self.process()
            item.facts = facts(7, start_clk=start_clk)
            item.first_detail, item.detail = (
                SimpleNamespace(descriptors=count, descriptor_limit=4096) for count in (10, last)
            )
            exam = examination(machine(), [item.application], [item])
            exam.series.surveyed.surveys = []
            result = [f.severity for f in found(findings.processes, exam)]
            with self.subTest(start_clk=start_clk, last=last):
                self.assertEqual(wanted, result)


class Parts(unittest.TestCase):
    """Fans and parts besides the processor."""

    def sensor(self, name, value, quantity="temperature", critical=None, chip="lm75"):
        return SensorSeries(
            Sensor(chip, name, "x", quantity, "p"),
            name,
            "board",
            level(value, LINE),
            None,
            critical,
            None,
            None,
        )

    def findings_of(self, *sensors, processor=None):
        chosen = processor and ProcessorSensor("cpu", "package", level(processor, LINE), 100.0, "")
        exam = examination(machine(), sensors=list(sensors), sensor=chosen)
        return {(item.kind, item.subject) for item in found(findings.heat, exam)}

    def test_heat_is_told_without_a_sensor_of_the_processor(self):
        still, turns = self.sensor("fan1", 0.0, "fan"), self.sensor("fan1", 900.0, "fan")
        hot, cool = self.sensor("board", 78.0), self.sensor("board", 41.0)
        drive, cold = (self.sensor("drive", celsius, critical=85.0) for celsius in (81.0, 60.0))
        for case, sensors, wanted in (
            ("hot beside a fan that stands still", [hot, still], {("fan-stopped", "fan1")}),
            ("it turns", [hot, turns], set()),
            ("it is cool", [cool, still], set()),
            ("no fan is known", [hot], set()),
            ("a drive at its own limit", [drive], {("overheating", "drive")}),
            ("below it", [cold], set()),
        ):
            with self.subTest(case):
                self.assertEqual(wanted, self.findings_of(*sensors))

    def test_only_time_above_the_limit_itself_counts_as_such(self):
        exam = examination(
            machine(),
            sensors=[
                self.sensor("card", 92.0, critical=90.0),
                self.sensor("radio", 86.0, critical=90.0),
            ],
            sensor=None,
        )
        told = {
            item.subject: {figure.key: figure.value for figure in item.evidence}
            for item in found(findings.heat, exam)
        }
        self.assertEqual(float(LINE.interval_s.sum()), told["card"]["part-above"])
        self.assertNotIn("part-above", told["radio"])

    def test_the_processors_own_sensors_are_judged_once(self):
        own = self.sensor("core 1", 97.0, critical=100.0, chip="cpu")
        kinds_ = [kind for kind, _ in self.findings_of(own, processor=97.0)]
        self.assertEqual(["overheating", "hot-while-idle"], sorted(kinds_, reverse=True))


class Services(unittest.TestCase):
    def findings_of(self, *units, first=()):
        exam = examination(machine(), [application(1, LINE, "tern", unit="tern.service")])
        exam.series.surveyed = Surveyed(
            [
                Survey(tick=0, is_last=False, units=list(first)),
                Survey(tick=9, is_last=True, units=list(units)),
            ]
        )
        return {
            (item.kind, item.subject or item.application.name)
            for item in found(findings.services, exam)
        }

    def test_what_came_and_went_and_what_was_given_up(self):
        def unit(restarts, name="tern.service", active="active", sub="running", **more):
            return Unit(name, active=active, sub=sub, restarts=restarts, **more)

        for case, before, after, wanted in (
            ("often meanwhile", unit(1), unit(4), {("service-restarting", "tern")}),
            ("twice", unit(1), unit(3), set()),
            ("once, and often before", unit(40), unit(41), {("service-restarting", "tern")}),
            ("often, but long ago", unit(41), unit(41), set()),
            (
                "too short to be seen",
                unit(3, "gull.service"),
                unit(4, "gull.service", "activating", "auto-restart"),
                {("service-restarting", "gull.service")},
            ),
            (
                "given up",
                unit(1),
                unit(1, active="failed", sub="failed", result="signal"),
                {("service-failed", "tern.service")},
            ),
            (
                "on the way all the time",
                unit(0, active="deactivating", sub="stop"),
                unit(0, active="deactivating", sub="stop"),
                {("service-stuck", "tern.service")},
            ),
        ):
            with self.subTest(case):
                self.assertEqual(wanted, self.findings_of(after, first=[before]))

    def test_the_last_survey_is_enough_where_it_says_since_when(self):
        for since_s, wanted in ((990.0, True), (1005.0, False), (None, False)):
            unit = Unit("tern.service", active="activating", sub="start", since_s=since_s)
            surveyed = Surveyed([Survey(tick=9, is_last=True, units=[unit])], began_s=1000.0)
            with self.subTest(since_s):
                self.assertEqual(wanted, surveyed.is_stuck(unit))

    def test_a_clock_that_is_kept_by_a_service_that_reaches_nobody(self):
        keeper = Unit("chrony.service", active="active", sub="running")
        asleep = Unit("chrony.service", active="inactive", sub="dead")
        for units, wanted in (([keeper], "chrony.service"), ([asleep], None), ([], None)):
            surveyed = Surveyed([Survey(tick=0, is_last=True, units=units)])
            self.assertEqual(wanted, surveyed.time_keeper)


class MappedDevices(unittest.TestCase):
    """What a mapping says of an error is about the one drive below it, where there is only one."""

    DISKS = (
        Disk("sda", partitions=["sda1", "sda2"]),
        Disk("sdb", partitions=["sdb1"]),
        Disk("dm-0", disks_below=["sda2"], mapped_name="crypt"),
        Disk("dm-1", disks_below=["dm-0"], mapped_name="home"),
        Disk("dm-2", disks_below=["dm-0", "sdb1"], mapped_name="wide"),
        Disk("dm-3", disks_below=["dm-3"]),
    )

    def about(self, device):
        exam = examination(machine())
        exam.series.header.inventory = SimpleNamespace(disks=self.DISKS)
        complaint = ("medium-error", device, 9, 9, 1.0, 2.0, f"critical medium error, {device}")
        exam.series.complaints = [KernelMessageSeries(*complaint, None)]
        (result,) = found(findings.kernel_messages, exam)
        return result.subject

    def test_the_drive_below_is_named(self):
        for device, drive in (
            ("sda1", "sda"),
            ("dm-0", "sda"),
            ("dm-1", "sda"),
            ("dm-2", "dm-2"),
            ("dm-3", "dm-3"),
            ("sdz", "sdz"),
        ):
            with self.subTest(device):
                self.assertEqual(drive, self.about(device))

    def of_kind(self, *messages):
        """The findings of messages, each a class and a device: kind and subject."""
        exam = examination(machine())
        exam.series.header.inventory = SimpleNamespace(disks=self.DISKS)
        exam.series.complaints = [
            KernelMessageSeries(kind, device, 9, 9, 1.0, 2.0, f"{kind}, {device}", None)
            for kind, device in messages
        ]
        return {(one.kind, one.subject) for one in found(findings.kernel_messages, exam)}

    def test_a_mapping_that_fails_alone_is_no_dying_drive(self):
        own = ("io-error", "dm-1")
        self.assertEqual({("mapping-errors", "dm-1")}, self.of_kind(own))
        self.assertEqual({("mapping-errors", "dm-9")}, self.of_kind(("io-error", "dm-9")))
        for below in ("sda", "sda2"):
            self.assertEqual({("drive-failing", "sda")}, self.of_kind(own, ("io-error", below)))
        both = {("drive-failing", "sdb"), ("mapping-errors", "dm-1")}
        self.assertEqual(both, self.of_kind(own, ("medium-error", "sdb1")))
