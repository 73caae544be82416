"""Views and settings through the built program: tables, corrections, thresholds."""

import json
import os
import unittest

import msgspec

from dunmist.advice import cores_text, percent, size_text, span_text
from dunmist.cli.columns import heading_text, number_text
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model, run


class Written(unittest.TestCase):
    def test_figures_say_what_they_are(self):
        for name, value, expected in (
            ("busy_mean", 0.5, "50 %"),
            ("used_share", 0.0004, "under 0.1 %"),
            ("cores_mean", 1.984, "1.98"),
            ("private_bytes", 3.0 * 2**30, "3.0 GiB"),
            ("read_bytes_per_s", 0.0, "0"),
            ("read_bytes_per_s", 2048.0, "2.0 KiB/s"),
            ("speed_bits_per_s", 2.5e9, "2.5 Gbit/s"),
            ("clock_hz", 2.9e9, "2900 MHz"),
            ("latency_mean_s", 0.00028, "0.28 ms"),
            ("cpu_s", 7300.0, "2 h 1 min"),
            ("since_s", 1_900_000_000.0, "2030-03-17 17:46Z"),
            ("since_s", 1e30, "unknown"),
            ("margin", 30.36, "30.36"),
            ("pid", 4711.0, "4711"),
            ("nice", 10.0, "10"),
            ("busy_mean", float("nan"), "–"),
        ):
            with self.subTest(name=name, value=value):
                self.assertEqual(expected, number_text(name, value))

    def test_amounts_in_sentences(self):
        self.assertEqual("1.98 cores (25 % of 8)", cores_text(1.98, 8))
        self.assertEqual(("9.9 %", "10 %", "0 %"), (percent(0.099), percent(0.0999), percent(0.0)))
        self.assertEqual(("512 bytes", "1.0 KiB"), (size_text(512), size_text(1024)))
        self.assertEqual(("1 d 2 h", "3 min 5 s", "12 s"),
                         (span_text(93_600), span_text(185), span_text(12)))  # fmt: skip

    def test_headings_leave_to_the_cells_what_they_say(self):
        for name, expected in (("read_bytes_per_s", "read"), ("user_share", "user"),
                               ("used_share", "used share"), ("times_per_s", "times a second"),
                               ("cpu_s", "cpu"), ("max_clock_hz", "max clock")):  # fmt: skip
            self.assertEqual(expected, heading_text(name))


class Tables(InFolder):
    def view(self, *arguments, status=0, **how):
        return run("view", *arguments, folder=self.folder, status=status, **how)

    def test_one_table_of_several(self):
        tables = json.loads(self.view("disks", self.sample, "--json").stdout)
        self.assertEqual(["disks", "file_systems"], list(tables))
        text = self.view("disks", self.sample, "--csv", "--table", "file_systems").stdout
        self.assertEqual(1 + len(tables["file_systems"]), len(text.splitlines()))
        self.assertIn("did you mean 'file systems'", self.one_line(
            "view", "disks", self.sample, "--table", "file_system", status=2))  # fmt: skip
        limited = json.loads(self.view("processes", self.sample, "--json", "--limit", "2").stdout)
        self.assertEqual(2, len(limited["applications"]))

    def test_whole_numbers_stay_whole(self):
        rows = json.loads(self.view("memory", self.sample, "--json").stdout)["installed_memory"]
        self.assertTrue(all(isinstance(row["bytes"], int) for row in rows))
        module = json.loads(self.view("memory", self.sample, "--json").stdout)["modules"][0]
        self.assertEqual(4 << 30, module["size_bytes"])

    def test_an_empty_topic_says_so(self):
        self.assertIn("no graphics", self.view("heat", self.sample).stdout)

    def test_a_process_with_all_that_is_known_of_it(self):
        rows = json.loads(self.view("processes", self.sample, "--each", "--json").stdout)
        by_name = {row["program"]: row for row in rows["processes"]}
        row = by_name["weather-mast"]
        self.assertEqual(("tides", "weather-mast.service", 12, 1024, False), (
            row["user"], row["unit"], row["descriptors"], row["descriptor_limit"],
            row["executable_deleted"]))  # fmt: skip
        # packages are looked up for the busiest and largest only
        self.assertEqual("nestcam-index", by_name["nestcam-index"]["package"])

    def test_ports_lead_to_owners_services_and_users(self):
        rows = json.loads(self.view("ports", self.sample, "--json").stdout)["sockets"]
        row = next(row for row in rows if row["port"] == 4711)
        self.assertEqual(("weather-mast", "weather-mast.service", "tides", "open", "listen"), (
            row["programs"], row["unit"], row["users"], row["scope"], row["state"]))  # fmt: skip


class Settings(InFolder):
    def setUp(self):
        super().setUp()
        self.own = self.folder / "config" / "dunmist"
        self.own.mkdir(parents=True)
        self.environment = {**os.environ, "XDG_CONFIG_HOME": str(self.own.parent)}

    def test_a_sensor_can_be_renamed_and_corrected(self):
        (self.own / "sensors.toml").write_text(
            '[[sensor]]\nchip = "coretemp"\nlabel = "Core *"\nname = "left core"\noffset = -3\n'
        )
        shown = run("view", "heat", self.sample, "--json", folder=self.folder,
                    environment=self.environment)  # fmt: skip
        rows = {row["sensor"]: row for row in json.loads(shown.stdout)["sensors"]}
        self.assertAlmostEqual(rows["coretemp Package id 0"]["last"] - 5,
                               rows["left core"]["last"], places=1)  # fmt: skip

    def test_thresholds_can_be_changed_and_slips_are_told(self):
        own = self.own / "thresholds.toml"
        own.write_text("[cpu]\nstrained_used = 1.5\nchoked_used = 1.5\n")
        found = run("triage", self.sample, "--json", folder=self.folder,
                    environment=self.environment)  # fmt: skip
        self.assertNotEqual("cpu", json.loads(found.stdout)["verdict"]["limiting"])
        own.write_text("[cpu]\nstrained_use = 0.1\n")
        line = self.one_line("triage", self.sample, environment=self.environment)
        self.assertIn("cpu.strained_use", line)


class Outside(InFolder):
    def test_where_no_program_is_to_blame_the_report_says_what_to_do(self):
        path = capture_model(load_scenario("full-cupboard"), self.folder / "full.gz")
        run("report", path, "-o", "r.txt", folder=self.folder)
        text = " ".join((self.folder / "r.txt").read_text().split())
        self.assertIn("no program is to blame", text)
        self.assertIn("du -xh --max-depth=2 /srv", text)
        self.assertNotIn("Nothing needs to be done", text)

    def test_a_hostile_mount_point_is_quoted_for_the_shell(self):
        full = load_scenario("full-cupboard")
        odd = msgspec.structs.replace(full.hardware.file_systems[1], point="/srv/$(touch,x)")
        hardware = msgspec.structs.replace(full.hardware, file_systems=[odd])
        path = capture_model(msgspec.structs.replace(full, hardware=hardware),
                             self.folder / "odd.gz")  # fmt: skip
        found = self.triage(path)
        step = next(step for one in found["findings"] for step in one["steps"])
        self.assertIn("'/srv/$(touch,x)'", step["command"])
