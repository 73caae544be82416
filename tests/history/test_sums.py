"""What is added up: parts of a period, shares by bins, and records of a run."""

import random
import unittest

from dunmist.history import HOUR_S, ApplicationSum, Period, ResourceSum, quantile
from dunmist.history.sums import OTHERS, packed, unpacked
from dunmist.history.usage import hours_short_of, usage_by


def period(began_s=0, **cpu_s):
    made = Period(began_s, HOUR_S, 3600, 1800.0, 0, 4, 8 << 30)
    for name, used in cpu_s.items():
        made.applications[name] = ApplicationSum(used, 1e9, 1800, memory_peak_bytes=used * 1e6)
    return made


class Sums(unittest.TestCase):
    def test_two_parts_of_an_hour_are_the_hour(self):
        whole, part = period(auk=100.0), period(auk=50.0, tern=7.0)
        whole.add(part)
        self.assertEqual(3600.0, whole.sampled_s)
        self.assertEqual(150.0, whole.applications["auk"].cpu_s)
        # a peak is the greater of both, not their sum
        self.assertEqual(100e6, whole.applications["auk"].memory_peak_bytes)
        self.assertEqual(7.0, whole.applications["tern"].cpu_s)

    def test_what_took_nothing_is_counted_together(self):
        made = period(auk=100.0, mite=0.1, flea=0.2)
        made.without_small_ones()
        self.assertEqual({"auk", OTHERS}, set(made.applications))
        self.assertAlmostEqual(0.3, made.applications[OTHERS].cpu_s)

    def test_the_share_below_which_most_of_the_time_lies(self):
        chance = random.Random(4)
        shares = [chance.random() ** 3 for _ in range(20_000)]
        used = ResourceSum()
        for share in shares:
            used.take(share, None, 1.0)
        truth = sorted(shares)[int(0.95 * len(shares))]
        self.assertAlmostEqual(truth, quantile(used.used_bins, 0.95), delta=0.02)
        self.assertIsNone(quantile(used.held_bins, 0.95))
        # stored and read back they are the same
        self.assertEqual(used.used_bins, unpacked(packed(used.used_bins)))
        with self.assertRaises(ValueError):
            unpacked(b"123")

    def test_local_hours_and_weekends(self):
        # 2031-05-17 was a Saturday; 23:30 UTC on Friday is that day in a zone one hour ahead
        made = Period(1_936_999_800 - 1_936_999_800 % 1800, HOUR_S, 3600)
        self.assertEqual((made.began_s + 3600) % 86400 // 3600, made.local_hour)
        friday, saturday = (
            Period(22_416 * 86_400 - 7200, HOUR_S, 3600),
            Period(22_416 * 86_400 - 1800, HOUR_S, 3600),
        )
        self.assertFalse(friday.is_weekend)
        self.assertTrue(saturday.is_weekend)

    def test_who_used_most_and_when(self):
        hours = [period(HOUR_S * hour, auk=600.0 if hour == 5 else 60.0) for hour in range(8)]
        (auk,) = usage_by(hours, "cpu", (0.0, 8.0 * HOUR_S), 8)
        self.assertEqual(7 * 60 + 600, auk.amount)
        self.assertEqual(5 * HOUR_S, auk.busiest.began_s)
        self.assertAlmostEqual(600 / 1800, auk.busiest.rate)
        self.assertAlmostEqual(60 / 1800, auk.curve[0])

    def test_hours_in_which_tasks_waited(self):
        hours = [period(HOUR_S * hour) for hour in range(10)]
        for index, each in enumerate(hours):
            each.resources["memory"] = ResourceSum()
            each.resources["memory"].take(0.9, 0.2 if index < 3 else 0.001, 1800.0)
        self.assertEqual((3, 10), hours_short_of(hours, "memory", 0.05))


if __name__ == "__main__":
    unittest.main()
