"""Trends against figures of known slope and known chance, and drifts of model computers."""

import unittest

import numpy as np

from dunmist.history.change_points import likelier_ramp
from dunmist.history.daily_figures import Followed, Point
from dunmist.history.drifts import drift_of, find_drifts
from dunmist.history.past import usual_range
from dunmist.history.trend import goes_on, noise_of, onset_of, trend_of, without_steps
from dunmist.jobs.model_months import Months, Rise

HOURS = (9, 11, 14, 16)


def walk(random, count, alike):
    values = [0.0]
    for _ in range(count):
        values.append(alike * values[-1] + random.normal() * (1 - alike**2) ** 0.5)
    return np.array(values[1:])


class Trends(unittest.TestCase):
    def test_the_slope_is_in_its_interval(self):
        random, inside = np.random.default_rng(2), 0
        days = np.arange(40.0)
        for _ in range(300):
            values = 100 + 0.5 * days + 3 * random.normal(size=40)
            trend = trend_of(days, values, 1.96)
            inside += trend.low <= 0.5 <= trend.high
        # of 300 intervals of 95 % this many at least, but for a chance of 1 in 10,000
        self.assertGreaterEqual(inside, 268)

    def test_days_that_are_alike_make_no_trend(self):
        random, days = np.random.default_rng(5), np.arange(42.0)
        told = {
            alike: sum(
                trend_of(days, walk(random, 42, alike), 3.29).p_value <= 0.01 for _ in range(300)
            )
            for alike in (0.0, 0.6)
        }
        self.assertLessEqual(told[0.0], 12)
        # without the correction for days that are alike it would be some fifty
        self.assertLessEqual(told[0.6], 24)

    def test_noise_is_measured_beside_steps(self):
        random = np.random.default_rng(7)
        for alike in (0.0, 0.4):
            values = 100 + 3 * walk(random, 90, alike)
            values[45:] += 40
            noise = noise_of(values)
            self.assertAlmostEqual(3.0, noise.spread, delta=1.2)
            self.assertAlmostEqual(alike, noise.alike, delta=0.3)
        self.assertIsNone(noise_of(values[:10]))

    def test_a_step_is_no_ramp(self):
        random, days = np.random.default_rng(8), np.arange(60.0)
        for alike in (0.0, 0.5):
            for steps in ([40], [30, 45], [38, 44, 50]):
                values = 100 + walk(random, 60, alike)
                for step in steps:
                    values[step:] += 10
                with self.subTest(alike=alike, steps=steps):
                    self.assertIsNone(likelier_ramp(days, values, noise_of(values), 11.0))
                    self.assertLess(np.ptp(without_steps(values)), 15)
            # a drift, and a step before it
            values = 100 + walk(random, 60, alike) + 0.8 * np.maximum(0, days - 44)
            values[20:] += 8
            ramp = likelier_ramp(days, values, noise_of(values), 11.0)
            self.assertAlmostEqual(44.0, ramp.start, delta=6)
            self.assertLess(abs(ramp.slope - 0.8), 4 * ramp.error)

    def test_who_falls_back_does_not_go_on(self):
        random, days = np.random.default_rng(8), np.arange(28.0)
        rising = 100 + 2 * days + random.normal(size=28)
        self.assertTrue(goes_on(rising, trend_of(days, rising, 3.29)))
        back = np.concatenate([rising[:14], rising[:14]])
        self.assertFalse(goes_on(back, trend_of(days, back, 3.29)))

    def test_since_when(self):
        random, days = np.random.default_rng(9), np.arange(80.0)
        values = 100 + 2 * np.maximum(0, days - 50) + random.normal(size=80)
        self.assertAlmostEqual(50.0, onset_of(days, values), delta=3.0)

    def test_the_usual_range_holds_what_is_usual(self):
        random, above = np.random.default_rng(10), 0
        for _ in range(400):
            values = 2 + 0.3 * random.normal(size=21)
            above += values[-1] > usual_range(list(values[:-1]), values[-1]).high
        # 10 expected; more than 24 would be chance once in 10,000
        self.assertLessEqual(above, 24)


class Drifts(unittest.TestCase):
    def drifts(self, days, *rises, seed=3, **settings):
        months = Months(days, seed, rises=rises, **settings)
        periods = list(months.periods(HOURS))
        for period in periods:
            for each in period.applications.values():
                each.memory_s, each.memory_byte_s = 4 * each.memory_s, 4 * each.memory_byte_s
        return find_drifts(periods, months.events), months

    def test_a_calm_computer_drifts_nowhere(self):
        for seed in range(3):
            drifts, _ = self.drifts(200, seed=seed, holiday=(60, 14))
            self.assertEqual([], [(drift.word, drift.name) for drift in drifts], seed)

    def test_what_doubles_in_eight_weeks_is_named_with_its_date(self):
        for what, name, word in (
            ("memory", "tide-gridder", "memory-drift"),
            ("cooling", "", "cooling-drift"),
            ("start", "", "start-drift"),
            ("disk", "sda", "disk-drift"),
            ("battery", "", "battery-fading"),
        ):
            with self.subTest(what):
                drifts, months = self.drifts(102, Rise(what, name, 60), updates=0.0)
                (drift,) = [each for each in drifts if each.word == word]
                began = drift.since_day - months.began_day
                self.assertAlmostEqual(60.0, began, delta=8.0)
                self.assertEqual([word], [each.word for each in drifts])

    def test_the_disk_is_full_when_it_says(self):
        drifts, months = self.drifts(90, Rise("storage", "sda1", 60), updates=0.0)
        (drift,) = drifts
        low, high = drift.full_between
        # it is full eight weeks after it began to fill
        self.assertTrue(low <= months.began_day + 60 + 56 <= high, (low, high))

    def test_known_updates_are_no_drift(self):
        random = np.random.default_rng(4)
        values = 3e8 + 4e6 * random.normal(size=80)
        for day in (55, 61, 67, 73):
            values[day:] += 4e7
        points = [Point(float(day), value) for day, value in enumerate(values)]
        followed = Followed("memory-drift", "auk", points)
        self.assertIsNotNone(drift_of(followed))
        self.assertIsNone(drift_of(followed._replace(changed_days=(55.2, 61.2, 67.2, 73.2))))

    def test_what_rises_evenly_is_told(self):
        for flat in (0, 30):
            rising = [1e9 * (1 + max(0, day - flat) / 60) for day in range(60)]
            points = [Point(float(day), value) for day, value in enumerate(rising)]
            drift = drift_of(Followed("memory-drift", "auk", points))
            self.assertAlmostEqual(flat, drift.since_day, delta=2)

    def test_too_little_says_nothing(self):
        rising = [Point(float(day), 1e9 * (1 + day / 10)) for day in range(7)]
        self.assertIsNone(drift_of(Followed("memory-drift", "auk", rising)))
        self.assertEqual([], find_drifts([], []))


if __name__ == "__main__":
    unittest.main()
