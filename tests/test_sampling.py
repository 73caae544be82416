"""The sampler on a clock of the test's own: even pace, lateness, gaps, sleep."""

import unittest
from datetime import UTC, datetime, timedelta

from dunmist.sampling import Plan
from dunmist.sampling.pace import pace


class JumpyClock:
    """Moves only when it waits or is told to."""

    def __init__(self):
        self.at_s = 100.0
        self.asleep_s = 0.0

    def monotonic_s(self):
        return self.at_s

    def boottime_s(self):
        return self.at_s + self.asleep_s

    def now(self):
        return datetime(2031, 5, 14, tzinfo=UTC) + timedelta(seconds=self.at_s)

    def sleep_until(self, monotonic_s):
        self.at_s = max(self.at_s, monotonic_s)
        return True


SIX_TICKS = Plan(5.0, 1.0)


def ticks(took_s, plan=SIX_TICKS):
    """Return number, start, lateness and misses of ticks that take the given times."""
    clock = JumpyClock()
    taken = []
    for due in pace(plan, clock):
        taken.append((due.number, due.at_s, due.is_late(plan.every_s), due.missed))
        clock.at_s += took_s.get(due.number, 0.0)
    return taken


class Pace(unittest.TestCase):
    def test_ticks_do_not_drift(self):
        plan = Plan(30.0, 0.1)
        taken = ticks(dict.fromkeys(range(301), 0.03), plan)
        self.assertEqual(301, len(taken))
        self.assertAlmostEqual(30.0, taken[-1][1])

    def test_a_slow_tick_makes_the_next_late_and_shortens_no_other(self):
        taken = ticks({1: 1.4})
        self.assertEqual([0, 1, 2, 3, 4, 5], [number for number, *_ in taken])
        self.assertEqual(
            [False, False, True, False, False, False], [late for _, _, late, _ in taken]
        )
        self.assertAlmostEqual(3.0, taken[3][1])

    def test_what_cannot_be_taken_is_missed(self):
        taken = ticks({1: 2.5})
        self.assertEqual([(0, 0), (1, 0), (3, 1), (4, 0), (5, 0)], [(n, m) for n, _, _, m in taken])

    def test_a_plan_counts_both_ends(self):
        for duration_s, every_s, intervals in (
            (30, 1, 30),
            (4, 0.25, 16),
            (1, 0.3, 3),
            (0.3, 0.1, 3),
        ):
            self.assertEqual(intervals, Plan(duration_s, every_s).intervals)
