"""What changed beyond noise: pairs of captures, and several good ones with one of now."""

import json
import re
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec
import numpy as np

from dunmist.compare.resampling import block_length, difference_of_means
from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario
from dunmist.simulation.scenario import SensorSpec
from tests.program import capture_model, run

HOURS = (
    "2031-05-14T09:00:00+01:00",
    "2031-05-14T11:00:00+01:00",
    "2031-05-14T13:00:00+01:00",
    "2031-05-14T15:00:00+01:00",
)


def at(scenario, started):
    """Return the same computer at another hour."""
    hours = float(started[11:13])
    machine = msgspec.structs.replace(
        scenario.machine, started=started, uptime_s=scenario.machine.uptime_s + 3600 * hours
    )
    return msgspec.structs.replace(scenario, machine=machine)


class Captures(unittest.TestCase):
    """Four hours of one computer: three without the indexer, and one with it."""

    @classmethod
    def setUpClass(cls):
        folder = TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        sick = load_scenario("ringing-office")
        well = [program for program in sick.programs if program.name != "nestcam-index"]
        (cls.folder / "good").mkdir()
        for index, hour in enumerate(HOURS[:3]):
            good = at(msgspec.structs.replace(sick, programs=well), hour)
            capture_patient(good, cls.folder / "good" / f"{index}.jsonl.gz", 20.0)
        capture_patient(at(sick, HOURS[3]), cls.folder / "sick.jsonl.gz", 20.0)
        capture_patient(at(sick, HOURS[2]), cls.folder / "brief.jsonl.gz", 3.0)
        capture_patient(load_scenario("errands"), cls.folder / "other.jsonl.gz", 10.0)

    def compared(self, *given, status=0):
        done = run("compare", *given, "--json", folder=self.folder, status=status)
        return json.loads(done.stdout)


class BeforeAndAfter(Captures):
    def test_both_ways(self):
        for first, second, answer in (
            ("sick.jsonl.gz", "good/0.jsonl.gz", "better"),
            ("good/0.jsonl.gz", "sick.jsonl.gz", "worse"),
            ("good/0.jsonl.gz", "good/1.jsonl.gz", "no clear change"),
        ):
            with self.subTest(answer):
                result = self.compared(first, second)
                self.assertEqual(answer, result["answer"])
                for item in result["figures"]:
                    self.assertLessEqual(item["low"], item["high"])
                clear = {
                    (item["what"], item["resource"] or item["name"]): item["after"] - item["before"]
                    for item in result["figures"]
                    if item["clear"]
                }
                if answer == "no clear change":
                    self.assertEqual({}, clear)
                    continue
                sign = -1 if answer == "better" else 1
                self.assertGreater(sign * clear["held-up", "cpu"], 0.8)
                self.assertAlmostEqual(3.69, sign * clear["cores", "nestcam-index"], delta=0.1)

    def test_what_came_and_went(self):
        result = self.compared("good/0.jsonl.gz", "sick.jsonl.gz")
        self.assertEqual(
            [("cpu-hog", "nestcam-index")],
            [(item["kind"], item["subject"]) for item in result["new"]],
        )
        self.assertEqual([], result["gone"])

    def test_what_cannot_be_compared_is_an_answer(self):
        for first, second, says in (
            ("sick.jsonl.gz", "other.jsonl.gz", "different computers"),
            ("sick.jsonl.gz", "brief.jsonl.gz", "has 3 intervals, and 8 are needed"),
            ("good/2.jsonl.gz", "brief.jsonl.gz", "the second one has 3"),
        ):
            with self.subTest(says):
                result = self.compared(first, second)
                self.assertEqual("cannot be compared", result["answer"])
                self.assertIn(says, result["headline"])

    def test_the_answer_as_a_status(self):
        for second, status in (("good/0.jsonl.gz", 0), ("brief.jsonl.gz", 1)):
            run(
                "compare",
                "sick.jsonl.gz",
                second,
                "--expect",
                "better",
                folder=self.folder,
                status=status,
            )

    def test_before_and_after_a_moment_of_one_capture(self):
        path = capture_model(load_scenario("waking-index"), self.folder / "waking.gz", 30.0)
        options = {"folder": self.folder}
        early = run("compare", path, "--around", "5s", **options).stdout
        self.assertIn("8 are needed", early)
        quiet = json.loads(run("compare", path, "--around", "15s", "--json", **options).stdout)
        self.assertEqual([15, 16], [quiet["before"][0]["ticks"] - 1, quiet["after"]["ticks"]])
        run("compare", path, path, "--around", "5s", status=2, **options)

    def test_what_is_no_pair(self):
        (self.folder / "torn.jsonl.gz").write_bytes(b"\x1f\x8btorn")
        for given, status, says in (
            (("sick.jsonl.gz",), 2, "needs two captures"),
            (("sick.jsonl.gz", "./sick.jsonl.gz"), 2, "is given twice"),
            (("sick.jsonl.gz", "good"), 2, "the last argument is the capture of now"),
            (("sick.jsonl.gz", "torn.jsonl.gz"), 1, "torn.jsonl.gz"),
            (("sick.jsonl.gz", "none.jsonl.gz"), 1, "none.jsonl.gz"),
        ):
            with self.subTest(given):
                done = run("compare", *given, folder=self.folder, status=status)
                self.assertIn(says, done.stderr)
                self.assertEqual(1, done.stderr.count("\n"))


class NormalAndNow(Captures):
    def test_what_is_outside_and_what_is_new(self):
        for given in (
            ("good", "sick.jsonl.gz"),
            ("--normal", "good", "sick.jsonl.gz"),
            ("good/*.jsonl.gz", "sick.jsonl.gz"),
        ):
            with self.subTest(given):
                result = self.compared(*given)
                self.assertEqual("unusual", result["answer"])
                self.assertEqual(3, len(result["before"]))
                outside = {
                    item["resource"] or item["name"] for item in result["figures"] if item["clear"]
                }
                self.assertLessEqual({"cpu", "nestcam-index"}, outside)
                self.assertIn(
                    ("program", "nestcam-index"),
                    [(item["kind"], item["subject"]) for item in result["new"]],
                )

    def test_another_good_time_is_as_usual(self):
        result = self.compared("good/0.jsonl.gz", "good/1.jsonl.gz", "good/2.jsonl.gz")
        self.assertEqual(("as usual", [], []), (result["answer"], result["new"], result["gone"]))

    def test_a_short_look_at_now_tells_nothing(self):
        result = self.compared("good", "brief.jsonl.gz")
        self.assertEqual("cannot be compared", result["answer"])
        self.assertIn("the last one has 3 intervals", result["headline"])

    def test_what_comes_and_goes_at_good_times_is_usual(self):
        (self.folder / "twice.jsonl.gz").write_bytes((self.folder / "sick.jsonl.gz").read_bytes())
        result = self.compared(
            "good/0.jsonl.gz",
            "sick.jsonl.gz",
            "good/1.jsonl.gz",
            "twice.jsonl.gz",
            "good/2.jsonl.gz",
        )
        self.assertEqual([], [item for item in result["figures"] if item["clear"]])
        self.assertIn("nestcam-index", {item["name"] for item in result["figures"]})

    def test_a_report_and_a_triage_say_it_too(self):
        said = run("triage", "sick.jsonl.gz", "--normal", "good", folder=self.folder).stdout
        self.assertIn("Against normal", said)
        self.assertIn("New: program nestcam-index", said)
        run("report", "sick.jsonl.gz", "--normal", "good/*.gz", "-o", "r.html", folder=self.folder)
        page = (self.folder / "r.html").read_text()
        section = page.split("Against normal")[1]
        self.assertIn("usually", section.split("<table")[0], "no picture of both")
        run("triage", "sick.jsonl.gz", "--json", "--normal", "good", folder=self.folder, status=2)

    def test_what_makes_captures_those_of_one_computer(self):
        for match, left_out in (("both", 1), ("hardware", 1), ("any", 0)):
            result = self.compared("good", "other.jsonl.gz", "good/1.jsonl.gz", "--match", match)
            self.assertEqual(left_out, len(result["left_out"]), match)

    def test_others_are_left_out_and_said(self):
        result = self.compared("good/0.jsonl.gz", "other.jsonl.gz", "sick.jsonl.gz")
        self.assertEqual("cannot be compared", result["answer"])
        self.assertEqual(
            ["other.jsonl.gz"], [Path(item["path"]).name for item in result["left_out"]]
        )


class Statistics(unittest.TestCase):
    def test_what_hangs_together_is_drawn_together(self):
        chance = np.random.default_rng(5)
        alone = chance.normal(size=200)
        together = np.repeat(chance.normal(size=20), 10)
        self.assertLessEqual(block_length(alone), 3)
        self.assertGreaterEqual(block_length(together), 8)
        self.assertEqual(1, block_length(np.ones(50)))

    def test_chance_is_seldom_called_a_change(self):
        chance = np.random.default_rng(7)

        def capture():
            # what one interval has, the next one has for the most part
            noise, values = chance.normal(size=60), np.zeros(60)
            for place in range(1, 60):
                values[place] = 0.6 * values[place - 1] + noise[place]
            return values

        wrong = sum(difference_of_means(capture(), capture()).p_value < 0.05 for _ in range(200))
        self.assertLess(wrong, 30)
        moved = difference_of_means(capture(), capture() + 3.0)
        self.assertLess(moved.p_value, 0.01)
        self.assertTrue(moved.low < 3.0 < moved.high)


class Cooling(unittest.TestCase):
    """The same work on a laptop that gives its heat away worse and worse."""

    def setUp(self):
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def capture(self, name, hour, resistance, power=False):
        """Capture the calm laptop; ``power`` adds a sensor of what the package takes."""
        calm = load_scenario("cliff-top-evening")
        hardware = calm.hardware
        heat = msgspec.structs.replace(hardware.heat, resistance=resistance)
        sensors = list(hardware.sensors)
        if power:
            sensors.append(SensorSpec("zenpower", "power1", label="package", follows="power"))
        hardware = msgspec.structs.replace(hardware, heat=heat, sensors=sensors)
        busy = [
            msgspec.structs.replace(program, demand_cores=0.6)
            if program.name == "plumage-catalogue"
            else program
            for program in calm.programs
        ]
        dusty = msgspec.structs.replace(calm, hardware=hardware, programs=busy)
        capture_patient(at(dusty, HOURS[hour]), self.folder / name, 40.0)

    def came(self, *given):
        done = run("compare", *given, "--json", folder=self.folder)
        return {load["kind"]: load["text"] for load in json.loads(done.stdout)["new"]}

    def test_dust_is_told_by_equal_load(self):
        clean = load_scenario("cliff-top-evening").hardware.heat.resistance
        for power in (False, True):
            with self.subTest(power=power):
                for name, hour, factor in (("1.gz", 0, 1.0), ("2.gz", 1, 1.0), ("3.gz", 2, 1.6)):
                    (self.folder / name).unlink(missing_ok=True)
                    self.capture(name, hour, clean * factor, power)
                said = self.came("1.gz", "3.gz")["cooling-worse"]
                self.assertIn("hotter at the same load than on 2031-05-14", said)
                self.assertIn("cooling-worse", self.came("1.gz", "2.gz", "3.gz"))
                self.assertNotIn("cooling-worse", self.came("1.gz", "2.gz"))
                self.assertNotIn("cooling-worse", self.came("3.gz", "1.gz"))
                if power:
                    told = float(re.search(r"([\d.]+) K/W more", said)[1])
                    self.assertAlmostEqual(0.6 * clean, told, delta=0.15 * clean)


if __name__ == "__main__":
    unittest.main()
