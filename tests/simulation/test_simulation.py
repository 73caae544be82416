"""Model computers: what must hold of them whatever is wrong, and that each shows its illness."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from benchmarks.drawn import random_scenario
from hypothesis import given
from hypothesis import strategies as st

from dunmist.diagnosis.words import ResourceWord
from dunmist.jobs.patient import capture_patient
from dunmist.series import Rate, load_series
from dunmist.simulation import ModelComputer, load_scenario, scenario_names
from dunmist.simulation.disks import Disk, Request
from dunmist.simulation.heat import Package
from dunmist.simulation.paging import Memory
from dunmist.simulation.scenario import DiskSpec, HeatSpec
from dunmist.simulation.scheduler import place_on_processors, share_processors


class Processors(unittest.TestCase):
    @given(
        st.lists(st.tuples(st.floats(0, 1), st.integers(-20, 19)), min_size=1, max_size=20),
        st.integers(1, 8),
    )
    def test_what_runs_fits_the_machine(self, wants, processors):
        wanted = np.array([cores for cores, _ in wants])
        shares = share_processors(wanted, np.array([float(nice) for _, nice in wants]), processors)
        self.assertLessEqual(shares.ran.sum(), processors + 1e-6)
        self.assertTrue((shares.ran <= wanted + 1e-9).all())
        self.assertTrue((shares.waited >= -1e-9).all())
        placed = place_on_processors(shares.ran, np.ones(processors), 3)
        self.assertTrue((placed.sum(axis=1) <= 1 + 1e-6).all())
        self.assertAlmostEqual(shares.ran.sum(), placed.sum(), places=3)

    def test_a_lower_priority_gets_less(self):
        shares = share_processors(np.array([1.0, 1.0, 1.0]), np.array([0.0, 0.0, 10.0]), 2)
        self.assertGreater(shares.ran[0], 3 * shares.ran[2])


class Parts(unittest.TestCase):
    def test_heat_settles_where_power_and_cooling_meet(self):
        spec = HeatSpec(idle_w=5, full_w=25, resistance=1.0, ambient_celsius=20, fan_works=False)
        package = Package(spec)
        package.settle(0.5)
        self.assertAlmostEqual(20 + 15 / 0.18**0.5, package.celsius, delta=0.5)

    def test_heat_takes_the_clock_and_counts(self):
        package = Package(HeatSpec(full_w=90, dust=2.0))
        for _ in range(900):
            package.step(1.0, 0.1)
        self.assertLess(package.celsius, 103)
        self.assertLess(package.clock_share, 0.9)
        self.assertGreater(package.throttles, 0)

    def test_swap_that_is_used_and_quiet_moves_nothing(self):
        memory = Memory(8000, 400, 2000, 2048, swap_quiet_mib=900)
        for _ in range(10):
            traffic = memory.step(3000, 900, 5, 0.1)
        self.assertEqual((900, 0, 0.0), (memory.swapped_mib, traffic, memory.stalled))

    def test_more_touched_than_fits_is_paging(self):
        memory = Memory(4000, 300, 1000, 2048)
        self.assertGreater(memory.step(4200, 4100, 5, 1.0), 1e6)
        self.assertGreater(memory.counters["pswpin"], 1000)

    def test_a_disk_serves_no_more_than_it_can(self):
        disk = Disk(DiskSpec("sda", "x", 100, spins=True))
        before = disk.read_bytes
        wants = [Request(4e6, 0, 4096), Request(4e6, 0, 4096)]
        for _ in range(100):
            results = disk.step(wants, 0.1)
        self.assertLess(results[0][0], 0.2)
        self.assertEqual(1.0, results[0][1])
        # some 117 requests a second at 8.5 ms each
        self.assertAlmostEqual(10 * 4096 / 0.0085, disk.read_bytes - before, delta=30_000)


class Patients(unittest.TestCase):
    def test_every_patient_is_complete_and_its_truth_is_in_the_vocabulary(self):
        names = scenario_names()
        self.assertGreaterEqual(len(names), 36)
        well = [name for name in names if load_scenario(name).truth.limiting is None]
        self.assertGreaterEqual(len(well), 10)
        words = set(ResourceWord.__args__)
        for name in names:
            with self.subTest(name):
                scenario = load_scenario(name)
                truth = scenario.truth
                self.assertLessEqual({truth.limiting} - {None}, words)
                programs = {program.name for program in scenario.programs}
                self.assertLessEqual({truth.culprit} - {None}, programs)
                self.assertTrue(scenario.complaint and scenario.story)
                for word in (truth.culprit or "").split("-"):
                    self.assertNotIn(word, ("leak", "hog", "spin", "storm", "stress", "fault"))

    def test_what_processes_use_adds_up_to_what_the_machine_counts(self):
        for seed in range(8):
            scenario = random_scenario(seed)
            with self.subTest(seed=seed), TemporaryDirectory() as directory:
                path = capture_patient(scenario, Path(directory) / "x.jsonl.gz", 10.0)
                series = load_series(path)
                machine, applications = series.machine, series.applications
                used = [application.cores for application in applications]
                given = Rate.total_of(series.line, [*used, machine.interrupt_cores])
                # every figure is rounded to clock ticks: two roundings a process and interval
                rounding = 0.02 * len(series.processes) + 0.1
                self.assertTrue((abs((given - machine.busy_cores).values) <= rounding).all())
                moved = sum(disk.read_bytes_per_s.total() for disk in series.devices.disks)
                asked = sum(application.read_bytes_per_s.total() for application in applications)
                self.assertLessEqual(asked, moved * 1.001 + 1e5)

    def test_the_same_seed_is_the_same_patient(self):
        self.assertEqual(random_scenario(3), random_scenario(3))
        self.assertNotEqual(random_scenario(3), random_scenario(11))
        first, second = ModelComputer(random_scenario(3)), ModelComputer(random_scenario(3))
        for model in (first, second):
            model.advance_to(4.0)
        self.assertEqual(first.load, second.load)

    def test_signs_hang_together(self):
        for name, sign in (
            ("cliff-top-laptop", lambda model: model.clock_ratio < 0.9),
            ("still-fan", lambda model: model.packages[0].fan_rpm == 0),
            (
                "narrow-burrow",
                lambda model: model.memory.stalled > 0.1 and model.disks[0].used > 0.9,
            ),
            ("worn-spinner", lambda model: model.disks[0].used > 0.9),
            ("offset-reading", lambda model: model.packages[0].celsius < 80),
            ("quiet-cellar", lambda model: model.memory.counters["pswpin"] == 0),
            ("restless-mast", lambda model: len(model.processes.by_name("mast-relay").gone) > 2),
            ("patient-digger", lambda model: model.load[0] > 3),
        ):
            with self.subTest(name):
                model = ModelComputer(load_scenario(name))
                model.advance_to(12.0)
                self.assertTrue(sign(model))
