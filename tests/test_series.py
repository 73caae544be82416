"""Arrays out of raw counters: rates, owners, short-lived use, memory that adds up."""

import unittest
from types import SimpleNamespace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from dunmist.applications import Grouping
from dunmist.computer import (
    Disk,
    DiskSample,
    Link,
    ProcessFacts,
    ProcessSample,
    SocketFacts,
    SocketSample,
)
from dunmist.sampling import ExitSum
from dunmist.series import disks, links
from dunmist.series.memory_breakdown import UNNAMED, memory_breakdown
from dunmist.series.rates import increments
from dunmist.series.short_lived import ChildTime, late_use
from dunmist.series.sockets import SocketCollector, network_use
from dunmist.series.sparse import Sparse
from dunmist.series.threads import one_thread, thread_shares
from dunmist.series.wait_kinds import NOT_WAITING, WAIT_KINDS, wait_code

EVEN = np.ones(3)


class Counters(unittest.TestCase):
    def test_what_was_not_written_again_stands_still(self):
        sparse = Sparse(2)
        sparse.add(1, "tern", [5, None])
        sparse.add(3, "tern", [9, 2])
        over = sparse.over(5)["tern"]
        self.assertTrue(np.isnan(over[0]).all() and np.isnan(over[1:3, 1]).all())
        self.assertEqual([5, 5, 9, 9], list(over[1:, 0]))

    def test_a_counter_that_goes_backwards_is_a_reset(self):
        grown = increments(np.array([5.0, 7.0, 3.0, 4.0]))
        self.assertEqual((2.0, 1.0), (grown[0], grown[2]))
        self.assertTrue(np.isnan(grown[1]))

    def test_a_disk(self):
        counters = Sparse(len(disks.FIGURES))
        for row, (reads, sectors, read_ms, busy, queued) in enumerate(
            ((100, 2000, 50, 75, 80), (150, 4000, 550, 1075, 2080), (150, 4000, 550, 1075, 2080))
        ):
            sample = DiskSample("sda", reads, sectors, read_ms, 0, 0, 0, 1, busy, queued)
            counters.add(row, "sda", disks.figures_of(sample))
        about = [Disk("sda", disks_below=[]), Disk("dm-0", disks_below=["sda"])]
        (one,) = disks.disk_series(counters, about, np.array([2.0, 1.0]))
        self.assertEqual((512_000, 0.5, 1.0, 0.01, 25), (
            one.read_bytes_per_s[0], one.busy[0], one.queue[0], one.latency_s[0],
            one.requests_per_s[0]))  # fmt: skip
        self.assertTrue(one.is_physical and np.isnan(one.latency_s[1]))

    def test_a_links_fuller_direction_counts(self):
        counters = Sparse(len(links.FIGURES))
        counters.add(0, "enp3s0", [0, 0, 0, 0, 0, 0, 0, 0, 0])
        counters.add(1, "enp3s0", [12_500_000, 9, 1, 2, 1_000_000, 9, 3, 4, 5])
        about = [Link("enp3s0", speed_bits_per_s=1_000_000_000)]
        (one,) = links.link_series(counters, about, np.array([1.0]))
        self.assertAlmostEqual(0.1, one.used[0])
        self.assertEqual((9, 6), (one.errors[0], one.drops[0]))
        (unknown,) = links.link_series(counters, [Link("enp3s0")], np.array([1.0]))
        self.assertIsNone(unknown.used)


def facts(pid, ppid=1, **more):
    return ProcessFacts(pid=pid, start_clk=pid, ppid=ppid, session=1, name=f"auk{pid}", **more)


class Sockets(unittest.TestCase):
    def test_only_what_moved_during_the_capture_counts(self):
        collected = SocketCollector()
        for number, row in ((0, 0), (1, 2)):
            ends = ("172.16.0.14", 40000 + number, "172.16.0.9", 443)
            collected.introduce(number, row, SocketFacts("tcp", 4, *ends, inode=70 + number))
        for row, socket, sent in ((0, 0, 1000), (1, 0, 1600), (2, 1, 300), (3, 1, 350)):
            collected.add(row, SocketSample(socket, "established", 0, 0, sent, 10, 0))
        collected.owned(4, [70])
        collected.owned(5, [71])
        collected.owned(6, [71])
        grouping = Grouping(None)
        for identity in (4, 5, 6):
            grouping.add(identity, facts(identity))
        old, new = collected.finish()
        # the first was there before; the second was made while it was sampled
        self.assertEqual((600, 350), (old.sent_bytes, new.sent_bytes))
        self.assertEqual(([4], [5, 6]), (old.owners, new.owners))
        sent, _ = network_use([old, new], grouping, EVEN)
        moved = [sent[:, grouping.application_of[one]].sum() for one in (4, 5, 6)]
        self.assertEqual([600.0, 175.0, 175.0], moved)

    def test_which_ends_can_be_reached_from_elsewhere(self):
        collected = SocketCollector()
        for number, (protocol, address, expected) in enumerate((
            ("tcp", "127.0.0.1", True), ("tcp", "::1", True), ("tcp", "::ffff:127.0.0.9", True),
            ("tcp", "0.0.0.0", False), ("udp", "::", False), ("tcp", "not an address", False),
            ("unix", "/run/tern", True),
        )):  # fmt: skip
            collected.introduce(number, 0, SocketFacts(protocol, 4, address, 80))
            with self.subTest(address):
                self.assertEqual(expected, collected.sockets[number].is_loopback)


def sample(identity, own_clk, children_clk=0):
    return ProcessSample(identity, "S", own_clk, 0, children_clk, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0)


def ended(process, parent, counted_s=0.0, run_s=0.0, name="x", read=0):
    return ExitSum(process, parent, name, 0, 3, round(run_s * 1e9), round(counted_s * 1e6), 0, 0, 0,
                   read, 0)  # fmt: skip


class ShortLived(unittest.TestCase):
    """One parent (identity 0) and children of whom something was not seen."""

    def late(self, children=(), exits=(), last=None, ended_tick=None):
        grouping = Grouping(None)
        grouping.add(0, facts(10, executable="/opt/a"))
        grouping.add(1, facts(20, ppid=10, executable="/opt/b"))
        seen = SimpleNamespace(clock_ticks_per_s=100, exits=list(exits), last=last or {},
                               ended_tick=ended_tick or {})  # fmt: skip
        late = late_use([ChildTime(*one) for one in children], seen, grouping, EVEN)
        parent = grouping.application_of[0]
        short = late.short_lived_cores.get(parent, np.zeros(3))
        return late, short, grouping.application_of[1]

    def test_children_that_were_never_seen_come_from_the_parents_counter(self):
        _, short, _ = self.late([(1, 0, 0.6), (2, 0, 0.2)])
        self.assertEqual([0.0, 0.6, 0.2], [round(one, 6) for one in short])

    def test_what_was_seen_of_a_child_is_not_counted_twice(self):
        _, short, _ = self.late([(2, 0, 0.5)], last={1: sample(1, 45)}, ended_tick={1: 3})
        self.assertAlmostEqual(0.05, short.sum())

    def test_children_that_nobody_waits_for_come_from_their_own_records(self):
        late, short, _ = self.late(exits=[(2, ended(None, 0, counted_s=0.4, read=4096))])
        self.assertAlmostEqual(0.4, short[1])
        self.assertEqual({"x": 3}, late.programs[0])
        self.assertEqual(4096, late.read_bytes_per_s[0][1])

    def test_of_both_signs_the_greater_counts_and_not_their_sum(self):
        _, short, _ = self.late([(1, 0, 0.5)], [(2, ended(None, 0, counted_s=0.4))])
        self.assertAlmostEqual(0.5, short.sum())
        # the parent noticed one tick later
        _, short, _ = self.late([(2, 0, 0.5)], [(2, ended(None, 0, counted_s=0.4))])
        self.assertAlmostEqual(0.5, short.sum())

    def test_the_rest_of_a_process_that_was_seen_is_its_own(self):
        late, short, child = self.late(
            [(2, 0, 1.0)], [(3, ended(1, None, run_s=0.9))], {1: sample(1, 70)}, {1: 3}
        )
        self.assertAlmostEqual(0.2, late.own_cores[child][2])
        self.assertAlmostEqual(0.1, short.sum())

    def test_orphans_are_unclaimed_and_what_ended_before_the_first_tick_is_past(self):
        late, short, _ = self.late(exits=[(1, ended(None, None, counted_s=0.3)),
                                          (0, ended(None, 0, counted_s=9.0))])  # fmt: skip
        self.assertAlmostEqual(0.3, late.unclaimed_cores[0])
        self.assertEqual(0.0, short.sum())


class Waiting(unittest.TestCase):
    def test_what_a_process_waits_for(self):
        for state, function, kind in (
            ("D", "io_schedule", "storage"), ("D", "jbd2_log_wait_commit", "storage"),
            ("D", "folio_wait_bit_common", "pages"), ("D", "do_swap_page", "pages"),
            ("D", "__mutex_lock.constprop.0", "lock"), ("D", "rwsem_down_write_slowpath", "lock"),
            ("D", "rpc_wait_bit_killable", "storage"), ("D", "vfork_done", "other"),
            ("D", None, "other"),
        ):  # fmt: skip
            with self.subTest(function):
                self.assertEqual(kind, WAIT_KINDS[wait_code(state, function)])
        self.assertEqual(NOT_WAITING, wait_code("S", "do_epoll_wait"))


class Threads(unittest.TestCase):
    def test_whether_a_program_hangs_on_one_processor(self):
        each_s = np.ones(6)

        def read(*threads):
            """Threads that each ran and waited for these shares of every second."""
            return thread_shares(
                {
                    (0, tid): [(row, int(row * ran * 1e9), int(row * waited * 1e9))
                               for row in range(7)]
                    for tid, (ran, waited) in enumerate(threads)
                },
                each_s,
            )[0]  # fmt: skip

        for case, threads, expected in (
            ("one full, others idle", [(0.98, 0.02), (0.05, 0.0)], 1.0),
            ("four take turns and wait to be let in", [(0.24, 0.06)] * 4, 1.0),
            ("four would run at once, but have one processor", [(0.25, 0.75)] * 4, None),
            ("two full at once", [(1.0, 0.0)] * 2, None),
            ("a few that have little to do", [(0.1, 0.0)] * 3, 0.3),
        ):
            with self.subTest(case):
                cores = np.full(6, sum(ran for ran, _ in threads))
                found = one_thread(cores, read(*threads))
                if expected is None:
                    self.assertIsNone(found)
                else:
                    np.testing.assert_allclose(found.wanted, expected, atol=0.01)


class Memory(unittest.TestCase):
    WORDS = ("AnonPages", "Shmem", "Cached", "Buffers", "SwapCached", "Unevictable", "Active(anon)",
             "Inactive(anon)", "Dirty", "Writeback", "KReclaimable", "SUnreclaim", "KernelStack",
             "PageTables", "MemFree", "Zswap", "Hugetlb")  # fmt: skip

    @given(st.lists(st.integers(0, 1 << 30), min_size=17, max_size=17), st.integers(0, 1 << 24))
    def test_the_parts_add_up_whatever_the_kernel_says(self, amounts, zram):
        memory = {word: np.array([float(one)]) for word, one in zip(self.WORDS, amounts,
                                                                    strict=True)}  # fmt: skip
        memory["MemTotal"] = np.array([float(1 << 36)])
        machine = SimpleNamespace(at_s=np.zeros(1), memory=memory,
                                  zram_bytes=np.array([float(zram)]))  # fmt: skip
        parts = memory_breakdown(machine)
        self.assertTrue(all(held[0] >= 0 for held in parts.values()))
        self.assertAlmostEqual(1 << 36, sum(held[0] for held in parts.values()), delta=16)
        self.assertGreaterEqual(parts[UNNAMED][0], 0)

    def test_locked_memory_is_taken_out_of_whose_it_is(self):
        mib = float(1 << 20)
        memory = {"MemTotal": 1000, "AnonPages": 300, "Shmem": 50, "Cached": 250,
                  "Unevictable": 60, "Active(anon)": 200, "Inactive(anon)": 110,
                  "Dirty": 5, "MemFree": 400}  # fmt: skip
        machine = SimpleNamespace(
            at_s=np.zeros(1), zram_bytes=np.array([np.nan]),
            memory={word: np.array([amount * mib]) for word, amount in memory.items()},
        )  # fmt: skip
        parts = {part: held[0] / mib for part, held in memory_breakdown(machine).items()}
        # 40 of the locked 60 are missing on the lists of programs, 20 are of files
        self.assertEqual((260, 60, 175, 5), (parts["programs"], parts["locked"],
                         parts["file cache"], parts["file cache, not written yet"]))  # fmt: skip
