"""Pictures: each can be drawn from whatever a computer publishes, and shows what it is about."""

import unittest
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec

from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.reports.pictures import PICTURES, draw_limiting, svg_text
from dunmist.simulation import load_scenario

SILENT = (
    "sys/class/hwmon/*",
    "sys/class/thermal/*",
    "sys/devices/system/cpu/*/cpufreq/*",
    "proc/pressure/*",
    "proc/diskstats",
    "proc/net/dev",
    "proc/*/schedstat",
    "proc/swaps",
    "sys/devices/system/cpu/*/topology/*",
)
STRANGE = "gull_$x^{2}$_\\frac{1}_"


@cache
def judged(name, hidden=(), renamed=None):
    patient = load_scenario(name)
    programs = [
        msgspec.structs.replace(program, name=renamed)
        if renamed and program.name == "nestcam-index"
        else program
        for program in patient.programs
    ]
    patient = msgspec.structs.replace(patient, hidden=list(hidden), programs=programs)
    with TemporaryDirectory() as folder:
        return judge(capture_patient(patient, Path(folder) / "x.gz", 6.0, 1.0))


def texts(result, draw):
    return svg_text(draw(result, None))


class Drawn(unittest.TestCase):
    def test_each_says_what_it_is_about(self):
        result = judged("cliff-top-laptop")
        for topic, expected in (
            ("processes", ("nestcam-index", "whole computer", "cores used")),
            ("cores", ("core 0", "cpu7", "GHz", "heat cut the clock")),
            ("memory", ("programs", "file cache", "free", "back from swap")),
            ("heat", ("coretemp Package id 0", "critical, 100 °C", "turns/min")),
            ("disks", ("sda", "MiB/s", "A request takes")),
            ("links", ("wlp4s0", "Received", "Sent")),
            ("timeline", ("cpu", "memory", "disk sda", "strained", "choked")),
        ):
            with self.subTest(topic):
                svg = texts(result, PICTURES[topic])
                for word in (*expected, "seconds since the first tick"):
                    self.assertIn(word, svg)

    def test_the_limiting_one_with_its_culprit(self):
        for name, expected in (
            ("cliff-top-laptop", ("heat", "critical, 100 °C", "Clock", "nestcam-index")),
            ("narrow-burrow", ("memory", "tasks waited", "plate-stitcher", "MiB of its own")),
            ("shelf-scan", ("disk sda", "tasks waited", "shelf-index", "MiB/s")),
            ("busy-ferry", ("link wlp4s0", "ferry-sync", "over TCP")),
            ("calm-morning", ("calm", "all others")),
        ):
            with self.subTest(name):
                svg = texts(judged(name), draw_limiting)
                for word in expected:
                    self.assertIn(word, svg)

    def test_a_computer_that_publishes_little_can_be_drawn(self):
        result = judged("ringing-office", hidden=SILENT)
        for topic, draw in {**PICTURES, "why": draw_limiting}.items():
            process = next(iter(result.series.processes.values())) if topic == "process" else None
            with self.subTest(topic):
                self.assertIn("</svg>", svg_text(draw(result, process)))
        self.assertIn("no temperature sensor", texts(result, PICTURES["heat"]))
        self.assertIn("no physical disk", texts(result, PICTURES["disks"]))

    def test_a_strange_name_is_shown_and_not_set_as_mathematics(self):
        svg = texts(judged("ringing-office", renamed=STRANGE), PICTURES["processes"])
        self.assertIn("gull_$x^{2}$", svg.replace("\\$", "$"))

    def test_ink_follows_the_page(self):
        svg = texts(judged("ringing-office"), PICTURES["timeline"])
        self.assertIn("currentColor", svg)
        self.assertNotIn("#1c2430", svg)
