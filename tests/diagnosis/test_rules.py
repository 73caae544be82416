"""Single rules of the diagnosis where the patients do not reach: other sources, other machines."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec

from dunmist.computer import PowerSupply
from dunmist.diagnosis.findings.heat import hours_left
from dunmist.diagnosis.judge import find_limiting
from dunmist.diagnosis.records import ResourceState
from dunmist.jobs.judge import judge
from dunmist.simulation import load_scenario
from dunmist.simulation.scenario import DiskSpec, SensorSpec
from tests.program import capture_model

replace = msgspec.structs.replace


def triaged(scenario, without=()):
    with TemporaryDirectory() as directory:
        path = capture_model(scenario, Path(directory) / "x.jsonl.gz", 20.0, without=without)
        return judge(path).triage


def program(scenario, which, **changes):
    programs = [
        replace(item, **changes) if item.name == which else item for item in scenario.programs
    ]
    return replace(scenario, programs=programs)


def kinds(triage):
    return {finding.kind for finding in triage.findings}


def texts(triage, resource):
    return " ".join(
        item.text
        for state in triage.resources
        if state.resource == resource
        for item in state.evidence
    )


class Limiting(unittest.TestCase):
    def state(self, resource, level="strained", pressure=0.5):
        return ResourceState(resource, level, 0.9, pressure, [])

    def test_causes_come_before_effects(self):
        state = self.state
        for states, expected in (
            ([state("cpu", "choked"), state("heat")], "heat"),
            ([state("disk", "choked"), state("memory")], "memory"),
            ([state("disk"), state("cpu", "choked")], "cpu"),
            ([state("disk", pressure=0.9), state("cpu", pressure=0.3)], "disk"),
            ([state("core"), state("link")], "link"),
            ([state("storage", "choked"), state("core")], "core"),
            ([state("cpu", "busy"), state("swap")], None),
        ):
            for order in (states, states[::-1]):
                result = find_limiting(order)
                self.assertEqual(expected, result.resource if result else None)


class Heat(unittest.TestCase):
    HOT = load_scenario("cliff-top-laptop")

    def sensors(self, **changes):
        sensor = SensorSpec("coretemp", "temp1", "Package id 0", follows="package", **changes)
        return replace(self.HOT, hardware=replace(self.HOT.hardware, sensors=[sensor]))

    def test_without_a_published_limit_one_is_assumed_and_said(self):
        result = triaged(self.sensors())
        self.assertEqual("heat", result.verdict.limiting)
        self.assertIn("no limit is published", texts(result, "heat"))
        self.assertIn("whole package", texts(result, "heat"))

    def test_the_throttle_counters_alone_will_do(self):
        clocks = "sys/devices/system/cpu/*/cpufreq/scaling_cur_freq"
        self.assertEqual("heat", triaged(self.HOT, [clocks]).verdict.limiting)

    def test_so_will_the_clock_alone(self):
        counters = "sys/devices/system/cpu/*/thermal_throttle/*"
        self.assertEqual("heat", triaged(self.HOT, [counters]).verdict.limiting)

    def test_without_sensors_heat_is_not_guessed(self):
        result = triaged(self.HOT, ["sys/class/hwmon/*"])
        self.assertNotIn("heat", [resource.resource for resource in result.resources])
        self.assertIn(
            "temperatures", " ".join(blind_spot.what for blind_spot in result.blind_spots)
        )

    def test_hot_with_its_full_clock_limits_nothing(self):
        # the same temperature, on a package that bears more
        heat = replace(self.HOT.hardware.heat, critical_celsius=130.0)
        warm = replace(self.HOT, hardware=replace(self.HOT.hardware, heat=heat))
        self.assertNotEqual("heat", triaged(warm).verdict.limiting)


class Disks(unittest.TestCase):
    def test_slow_is_measured_by_the_kind_of_disk(self):
        worn = load_scenario("worn-spinner")
        solid = DiskSpec("sda", "Skerrow SSD 256", 238, slowness=2600.0)
        for disk in (worn.hardware.disks[0], solid):
            result = triaged(replace(worn, hardware=replace(worn.hardware, disks=[disk])))
            with self.subTest(disk.model):
                self.assertIn("disk-slow", kinds(result))
                self.assertEqual(("disk", []), (result.verdict.limiting, result.culprits))
                self.assertIn("then replace it", result.verdict.headline)

    def test_who_waits_for_its_own_work_alone_is_held_up_too(self):
        copy = program(load_scenario("noon-copy"), "ring-recovery", read_mib_per_s=0.0)
        result = triaged(program(copy, "station-journal", write_mib_per_s=0.0))
        truth = load_scenario("noon-copy").truth
        self.assertEqual(
            ("disk", truth.culprit), (result.verdict.limiting, result.culprits[0].name)
        )

    def test_those_whom_the_disk_holds_up_are_victims(self):
        slow = program(load_scenario("shelf-scan"), "ring-recovery", read_mib_per_s=0.1)
        roles = {culprit.name: culprit.role for culprit in triaged(slow).culprits}
        self.assertEqual("cause", roles["shelf-index"])


class Ports(unittest.TestCase):
    def test_two_programs_on_one_port(self):
        desk = program(load_scenario("calm-morning"), "weather-mast", listens=[631])
        result = triaged(desk)
        self.assertIn("port-conflict", kinds(result))
        self.assertNotIn("open-port", kinds(result), "services are expected to listen")


class Batteries(unittest.TestCase):
    def test_how_long_the_charge_lasts(self):
        for supply, hours in (
            (PowerSupply("B", "battery", energy_now=30_000_000, power_now=15_000_000), 2.0),
            (PowerSupply("B", "battery", charge_now=2_000_000, current_now=-4_000_000), 0.5),
            (PowerSupply("B", "battery", energy_now=30_000_000, power_now=0), None),
            (PowerSupply("B", "battery"), None),
        ):
            self.assertEqual(hours, hours_left(supply))


class Names(unittest.TestCase):
    def test_only_names_that_read_alike_are_lookalikes(self):
        odd = load_scenario("odd-corner")
        for name, alike in (
            ("station-joumal", True),
            ("station-j0urnal", True),
            ("station-journals", False),
            ("tide-gridder2", False),
        ):
            with self.subTest(name):
                result = triaged(program(odd, "station-joumal", name=name))
                self.assertEqual(alike, "lookalike-name" in kinds(result))
                if alike:
                    subjects = [
                        finding.subject
                        for finding in result.findings
                        if finding.kind == "lookalike-name"
                    ]
                    self.assertEqual([name], subjects, "the installed one is not the odd one")
