"""Rules of findings on figures written down by hand: what is just enough, and just not."""

import dataclasses
import unittest
from types import SimpleNamespace

from dunmist.computer import FileSystem
from dunmist.diagnosis import (
    found_devices,
    found_machine,
    found_memory,
    found_processes,
    found_processors,
)
from dunmist.diagnosis.records import ResourceState
from dunmist.diagnosis.strains import Strains
from dunmist.series import Storage
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
NOTHING = Strains([])


def kinds(rules, exam, strains=NOTHING):
    """Return the kinds, and whom each is about."""
    found = [finding for rule in rules for finding in rule(exam, strains)]
    return {(one.kind, one.application.name if one.application else None) for one in found}


def machine(busy=0.2, **more):
    return Machine(LINE, processors(LINE, 4, user=busy), **more)


def strained(word, used=0.99, name=None):
    return Strains([ResourceState(word, "strained", used, 0.5, [], name=name)])


class Processors(unittest.TestCase):
    def found(self, *applications, strains=NOTHING, of=None, processes=(), **devices):
        exam = examination(of or machine(), applications, processes,
                           interrupts=devices.pop("interrupts", {}), **devices)  # fmt: skip
        return kinds(found_processors.RULES, exam, strains)

    def test_who_uses_processors_all_the_time(self):
        for what, wanted, figures in (
            ("more than half of all", {("cpu-hog", "tern")}, {"cores": 2.1}),
            ("less", {("steady-background", "tern")}, {"cores": 1.9}),
            ("a little, always", {("steady-background", "tern")}, {"cores": 0.2}),
            ("less than is worth a word", set(), {"cores": 0.1}),
            ("now and then", set(), {"cores": [2.0, 0.0, 0.0, 0.0, 0.0] * 2}),
            ("gives way to others", {("steady-background", "tern")},
             {"cores": 3.0, "low_priority": 0.9}),
            ("Dunmist itself", set(), {"cores": 3.0, "observer": True}),
            ("the kernel", {("kernel-busy", "tern")}, {"cores": 0.6, "kernel": True}),
            ("the kernel, a little", set(), {"cores": 0.4, "kernel": True}),
        ):  # fmt: skip
            with self.subTest(what):
                self.assertEqual(wanted, self.found(application(1, LINE, "tern", **figures)))

    def test_a_storm_needs_both_forks_and_use(self):
        for forks, cores, wanted in ((50, 0.5, True), (30, 0.5, False), (50, 0.1, False)):
            with self.subTest(forks=forks, cores=cores):
                host = machine()
                host.forks_per_s = rate_on(float(forks), LINE)
                starter = application(1, LINE, "gull", short_lived_cores=cores)
                other = application(2, LINE, "auk", cores=0.1)
                found = self.found(other, starter, of=host)
                self.assertEqual(wanted, ("spawn-storm", "gull") in found)

    def test_many_threads_matter_where_processors_are_short(self):
        for threads, waiting, strains, wanted in (
            (200, 5.0, strained("cpu"), True), (200, 5.0, NOTHING, False),
            (50, 5.0, strained("cpu"), False), (200, 0.2, strained("cpu"), False),
        ):  # fmt: skip
            with self.subTest(threads=threads, waiting=waiting):
                crowd = application(1, LINE, "auk", waiting=waiting)
                many = process(7, crowd, LINE, threads=threads)
                found = self.found(crowd, strains=strains, processes=[many])
                self.assertEqual(wanted, ("thread-swarm", "auk") in found)

    def test_what_is_taken_from_processors(self):
        for what, spent, wanted in (
            ("stolen", {"steal": 0.2}, {("stolen-time", None)}),
            ("a little", {"steal": 0.05}, set()),
            ("interrupts", {"irq": 0.2, "softirq": 0.15}, {("interrupt-storm", None)}),
            ("fewer", {"irq": 0.1, "softirq": 0.1}, set()),
        ):  # fmt: skip
            with self.subTest(what):
                host = Machine(LINE, processors(LINE, 4, **spent))
                self.assertEqual(wanted, self.found(of=host))

    def test_a_low_clock_is_told_only_of_busy_processors_that_are_not_hot(self):
        for clock, busy, strains, wanted in (
            (0.5, 0.9, NOTHING, True), (0.8, 0.9, NOTHING, False), (0.5, 0.3, NOTHING, False),
            (0.5, 0.9, strained("heat"), False),
        ):  # fmt: skip
            with self.subTest(clock=clock, busy=busy):
                host = Machine(LINE, processors(LINE, 4, clock=clock, user=busy))
                host.most_clock_hz = 3e9
                self.assertEqual(
                    wanted, ("low-clock", None) in self.found(of=host, strains=strains)
                )


class Memory(unittest.TestCase):
    def found(self, *applications, strains=NOTHING, of=None):
        exam = examination(of or machine(), applications)
        exam.series.header.inventory = SimpleNamespace(firmware=None)
        return kinds(found_memory.RULES, exam, strains)

    def grown(self, values):
        one = application(1, LINE, "gull")
        one.private_bytes = level(values, LINE)
        # an application that has run for hours
        process(7, one, LINE)
        return one

    def test_who_holds_it(self):
        for held, wanted in ((4.5, {("memory-hog", "tern")}), (3.5, set())):
            with self.subTest(held):
                one = application(1, LINE, "tern", private=held * GIB)
                self.assertEqual(wanted, self.found(one))

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
                self.assertEqual(wanted, self.found(self.grown(values)))

    def test_too_little_is_told_from_a_limit(self):
        reader = application(1, LINE, "auk", major_faults_per_s=50.0)
        for used, wanted in ((0.95, ("memory-short", None)), (0.4, ("memory-limited", "auk"))):
            with self.subTest(used):
                self.assertIn(wanted, self.found(reader, strains=strained("memory", used)))

    def test_paging_goes_both_ways(self):
        for paging, wanted in (
            ({"pswpin": 900.0, "pswpout": 900.0}, True),
            ({"pswpout": 9000.0, "pswpin": 0.0}, False),
        ):  # fmt: skip
            with self.subTest(paging):
                host = machine(paging=paging)
                host.paging = {word: rate_on(value, LINE) for word, value in paging.items()}
                self.assertEqual(wanted, ("paging-storm", None) in self.found(of=host))


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
                exam.series.header.inventory = SimpleNamespace(tasks_most=1000)
                exam.series.surveyed.last = None
                self.assertEqual(wanted, kinds(found_machine.RULES, exam))


class Devices(unittest.TestCase):
    def found(self, *applications, strains=NOTHING, sockets=(), processes=(), **devices):
        devices = {"physical_disks": [], "outward_links": [], **devices}
        devices.setdefault("links", devices["outward_links"])
        exam = examination(machine(), applications, processes, **devices)
        exam.series.sockets = list(sockets)
        return kinds(found_devices.RULES, exam, strains)

    def test_room_and_inodes(self):
        for used, inodes, read_only, wanted in (
            (0.96, None, False, {"storage-full"}), (0.94, 0.1, False, set()),
            (0.2, 0.96, False, {"inodes-full"}), (1.0, 1.0, False, {"storage-full", "inodes-full"}),
            (1.0, 1.0, True, set()), (None, None, False, set()),
        ):  # fmt: skip
            with self.subTest(used=used, inodes=inodes, read_only=read_only):
                about = FileSystem("/srv", "ext4", "/dev/sda1", read_only, size_bytes=10**9)
                found = self.found(storage=[Storage(about, 1, used, inodes)])
                self.assertEqual(wanted, {kind for kind, _ in found})

    def test_disks_and_who_they_hold_up(self):
        slow = disk(LINE, 1.0, 1.0, 0.4, 1e5, spins=True)
        fast = disk(LINE, 1.0, 1.0, 0.001, 1e8, spins=True)
        waits = application(1, LINE, "auk", io_waiting=0.5)
        for what, one, strains, wanted in (
            ("slow by itself", slow, strained("disk", name="sda"),
             {("disk-slow", None), ("blocked-on-disk", "auk")}),
            ("full", fast, strained("disk", name="sda"),
             {("disk-saturated", None), ("blocked-on-disk", "auk")}),
            ("nobody waits", fast, NOTHING, set()),
            ("pages are what they wait for", fast,
             Strains([*strained("disk", name="sda").states, *strained("memory").states]), set()),
        ):  # fmt: skip
            with self.subTest(what):
                found = self.found(waits, strains=strains, physical_disks=[one])
                self.assertEqual(wanted, found)

    def test_frames_and_segments(self):
        for errors, sent, again, wanted in (
            (2.0, 0, 0, True), (0.1, 0, 0, False), (0.0, 1000, 50, True), (0.0, 1000, 10, False),
            (0.0, 100, 50, False),
        ):  # fmt: skip
            with self.subTest(errors=errors, sent=sent, again=again):
                line_ = dataclasses.replace(link(LINE), errors_per_s=rate_on(errors, LINE))
                line_.about.is_default = True
                tcp = {"TcpOutSegs": sent, "TcpRetransSegs": again}
                found = self.found(outward_links=[line_], tcp=tcp)
                self.assertEqual(wanted, ("link-errors", None) in found)

    def test_what_goes_on_all_the_time(self):
        for what, moved, strains, wanted in (
            ("steadily", 2e5, NOTHING, True), ("little", 5e4, NOTHING, False),
            ("now and then", [1e6, 0.0, 0.0, 0.0, 0.0] * 2, NOTHING, False),
            ("on a full line it is told otherwise", 2e5, strained("link"), False),
        ):  # fmt: skip
            with self.subTest(what):
                one = application(1, LINE, "tern", sent_bytes_per_s=moved)
                self.assertEqual(wanted, ("steady-transfer", "tern") in self.found(
                    one, strains=strains))  # fmt: skip

    def listening(self, owner, address="0.0.0.0", port=8080, protocol="tcp", **more):
        facts_ = SimpleNamespace(protocol=protocol, local=address, local_port=port,
                                 remote_port=None)  # fmt: skip
        return SimpleNamespace(facts=facts_, owners=[owner.identity], listens=True, ended=False,
                               is_loopback=address.startswith("127."), **more)  # fmt: skip

    def test_ports(self):
        tern, gull = application(1, LINE, "tern"), application(2, LINE, "gull")
        mine, service = process(7, tern, LINE), process(8, gull, LINE)
        mine.facts, service.facts = facts(7, uid=1000), facts(8, uid=33)
        for what, sockets, wanted in (
            ("a person's, open", [self.listening(mine)], {("open-port", "tern")}),
            ("a service's", [self.listening(service)], set()),
            ("for this computer only", [self.listening(mine, "127.0.0.1")], set()),
            ("not of TCP", [self.listening(mine, protocol="udp")], set()),
            ("two of them", [self.listening(service), self.listening(mine, "127.0.0.1")],
             {("port-conflict", None)}),
            ("two ports", [self.listening(service), self.listening(mine, "127.0.0.1", 8081)],
             set()),
        ):  # fmt: skip
            with self.subTest(what):
                self.assertEqual(wanted, self.found(tern, gull, sockets=sockets,
                                                    processes=[mine, service]))  # fmt: skip


class Processes(unittest.TestCase):
    def found(self, *processes, strains=NOTHING, surveys=()):
        exam = examination(machine(), [one.application for one in processes], processes)
        exam.series.surveyed.surveys = list(surveys)
        return kinds(found_processes.RULES, exam, strains)

    def one(self, pid=7, state="S", **more):
        made = process(pid, application(pid, LINE, f"auk{pid}"), LINE, **more)
        made.last = sample(pid, state=state, waits_in="nfs_wait")
        return made

    def test_stuck_is_who_did_nothing_but_wait(self):
        for what, one, strains, wanted in (
            ("uninterruptibly", self.one(state="D"), NOTHING, True),
            ("stopped", self.one(state="T"), NOTHING, True),
            ("asleep", self.one(), NOTHING, False),
            ("it ran meanwhile", self.one(state="D", cores=0.1), NOTHING, False),
            ("for a disk, which is told otherwise", self.one(state="D"), strained("disk"), False),
        ):
            with self.subTest(what):
                self.assertEqual(wanted, ("stuck-process", "auk7") in self.found(
                    one, strains=strains))  # fmt: skip

    def test_a_lock_counts_when_it_is_waited_for_all_the_time(self):
        held = SimpleNamespace(locks=[SimpleNamespace(waiter=7, holder=8)])
        free = SimpleNamespace(locks=[])
        for surveys, wanted in (([held, held], True), ([held, free], False), ([held], False)):
            with self.subTest([len(one.locks) for one in surveys]):
                found = self.found(self.one(7), self.one(8), surveys=surveys)
                self.assertEqual(wanted, ("lock-wait", "auk7") in found)

    def test_ended_ones_that_nobody_waits_for(self):
        for count, wanted in ((20, {("defunct-pile", "auk1")}), (19, set())):
            with self.subTest(count):
                children = [self.one(pid, state="Z") for pid in range(100, 100 + count)]
                self.assertEqual(wanted, self.found(self.one(1), *children))

    def test_descriptors(self):
        for first, last, limit, wanted in (
            (10, 20, 1024, {"descriptor-leak"}), (10, 12, 1024, set()),
            (900, 900, 1024, {"limit-near"}), (900, 900, None, set()), (None, 20, 1024, set()),
        ):  # fmt: skip
            with self.subTest(first=first, last=last, limit=limit):
                one = self.one()
                one.first_detail, one.detail = (
                    SimpleNamespace(descriptors=count, descriptor_limit=limit)
                    for count in (first, last)
                )
                self.assertEqual(wanted, {kind for kind, _ in self.found(one)})
