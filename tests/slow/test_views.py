"""Views and settings through the built program: tables, corrections, thresholds."""

import json
import os
import re
import subprocess
import sys
import unittest

import msgspec

from dunmist.advice import cores_text, percent, size_text, span_text
from dunmist.advice.amounts import amount_text
from dunmist.simulation import load_scenario
from dunmist.sparklines import bar_cells
from dunmist.tables import TOPICS, number_text
from tests.program import InFolder, capture_model, run


class Written(unittest.TestCase):
    def test_figures_say_what_they_are(self):
        for unit, value, expected in (
            ("share", 0.5, "50 %"),
            ("share", 0.0004, "< 0.1 %"),
            ("cores", 1.984, "1.98"),
            ("bytes", 3.0 * 2**30, "3.0 GiB"),
            ("bytes/s", 0.0, "0"),
            ("bytes/s", 2048.0, "2.0 KiB/s"),
            ("bits/s", 2.5e9, "2.5 Gbit/s"),
            ("Hz", 2.9e9, "2900 MHz"),
            ("s", 0.00028, "0.28 ms"),
            ("s", 7300.0, "2 h 1 min"),
            ("at", 7.25, "7.2 s"),
            ("moment", 1_900_000_000.0, "2030-03-17 17:46 +0000"),
            ("moment", 1e30, "unknown"),
            ("figure", 30.36, "30.36"),
            ("number", 4711.0, "4711"),
            ("share", float("nan"), "–"),
        ):
            with self.subTest(unit=unit, value=value):
                self.assertEqual(expected, number_text(unit, value))

    def test_amounts_in_sentences(self):
        self.assertEqual("1.98 cores (25 % of 8)", cores_text(1.98, 8))
        self.assertEqual(("9.9 %", "10 %", "0 %"), (percent(0.099), percent(0.0999), percent(0.0)))
        self.assertEqual(("512 bytes", "1.0 KiB"), (size_text(512), size_text(1024)))
        self.assertEqual(
            ("1 d 2 h", "3 min 5 s", "12 s"), (span_text(93_600), span_text(185), span_text(12))
        )

    def test_a_figure_reads_the_same_before_and_after_json(self):
        for share in (0.54496, 0.99949, 0.0994999, 0.12345678, 1e-5, 0.0):
            rounded = float(f"{share:.4g}")
            with self.subTest(share):
                self.assertEqual(percent(share), percent(rounded))

    def test_large_figures_have_no_exponent(self):
        for value, unit, expected in (
            (12_345.6, "per second", "12346"),
            (0.01234, "requests", "0.0123"),
            (4_194_304.0, "number", "4194304"),
            (3_600.0, "s", "1 h 0 min"),
        ):
            with self.subTest(value=value, unit=unit):
                self.assertEqual(expected, amount_text(value, unit, None))

    def test_headings_leave_to_the_cells_what_they_say(self):
        columns = {
            column.name: column.heading
            for tables in TOPICS.values()
            for table in tables
            for column in table.columns
        }
        for name, expected in (
            ("read_bytes_per_s", "read"),
            ("user_share", "user"),
            ("used_share", "used share"),
            ("times_per_s", "times a second"),
            ("cpu_s", "cpu"),
            ("max_clock_hz", "max clock"),
            ("busy_curve", "over time"),
        ):
            self.assertEqual(expected, columns[name])


class Tables(InFolder):
    def view(self, *arguments, status=0, **how):
        return run("view", *arguments, folder=self.folder, status=status, **how)

    def test_nothing_wraps_in_eighty_columns(self):
        text = self.view("memory", self.sample, environment={**os.environ, "COLUMNS": "80"}).stdout
        self.assertEqual([], [line for line in text.splitlines() if re.match("[+-]", line)])
        part = next(line for line in text.splitlines() if " free " in line)
        self.assertRegex(part, r"free +[\d.]+ [GM]iB +\d+ %  .{8,}")
        named = self.view("processes", self.sample, environment={**os.environ, "COLUMNS": "80"})
        self.assertNotIn("…", "".join(line[:30] for line in named.stdout.splitlines()))

    def test_one_table_of_several(self):
        tables = json.loads(self.view("disks", self.sample, "--json").stdout)
        self.assertEqual(["disks", "file_systems"], list(tables))
        text = self.view("disks", self.sample, "--csv", "--table", "file_systems").stdout
        self.assertEqual(1 + len(tables["file_systems"]), len(text.splitlines()))
        self.assertIn(
            "did you mean 'file systems'",
            self.one_line("view", "disks", self.sample, "--table", "file_system", status=2),
        )
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
        self.assertEqual(
            ("tides", "weather-mast.service", 12, 1024, False),
            (
                row["user"],
                row["unit"],
                row["descriptors"],
                row["descriptor_limit"],
                row["executable_deleted"],
            ),
        )
        self.assertEqual("nestcam-index", by_name["nestcam-index"]["package"])

    def test_ports_lead_to_owners_services_and_users(self):
        rows = json.loads(self.view("ports", self.sample, "--json").stdout)["sockets"]
        row = next(row for row in rows if row["port"] == 4711)
        self.assertEqual(
            ("weather-mast", "weather-mast.service", "tides", "open", "listen"),
            (row["programs"], row["unit"], row["users"], row["scope"], row["state"]),
        )


class Closer(InFolder):
    def rows(self, *arguments):
        done = run("view", *arguments, "--json", folder=self.folder)
        return next(iter(json.loads(done.stdout).values()))

    def refused(self, *arguments):
        return self.one_line("view", *arguments, status=2)

    def test_rows_are_filtered_by_what_technicians_know(self):
        everything = self.rows("processes", self.sample, "--each")
        for option, value, column in (
            ("--owner", "tides", "user"),
            ("--state", "R", "state"),
            ("--role", "cause", "role"),
            ("--service", "weather-mast", "unit"),
            ("--name", "NESTCAM", "program"),
            ("--name", "*-mast", "program"),
            ("--port", "4711", "ports"),
        ):
            with self.subTest(option=option, value=value):
                kept = self.rows("processes", self.sample, "--each", option, value)
                word = value.strip("*").lower()
                self.assertTrue(kept)
                self.assertTrue(all(word in str(row[column]).lower() for row in kept))
                rest = [row for row in everything if row not in kept]
                self.assertFalse(any(word == str(row[column]).lower() for row in rest))
        (pid,) = {row["pid"] for row in everything if row["program"] == "weather-mast"}
        (row,) = self.rows("processes", self.sample, "--each", "--pid", pid)
        self.assertEqual("weather-mast", row["program"])
        least = self.rows("processes", self.sample, "--least", "0.5")
        self.assertTrue(least and all(row["cores_mean"] >= 0.5 for row in least))

    def test_who_has_a_port(self):
        (row,) = self.rows("ports", self.sample, "--port", "4711")
        self.assertEqual("weather-mast", row["programs"])
        listening = self.rows("ports", self.sample, "--listening")
        self.assertEqual({"listen"}, {row["state"] for row in listening})

    def test_any_order_on_several_keys(self):
        rows = self.rows("processes", self.sample, "--each", "--sort", "user,rss_bytes:up")
        keys = [(row["user"], row["rss_bytes"]) for row in rows]
        self.assertEqual(sorted(keys), keys)
        usual = self.rows("processes", self.sample)
        turned = self.rows("processes", self.sample, "--bottom")
        self.assertEqual(usual, turned[::-1])
        self.assertIn(
            "did you mean 'rss_bytes'",
            self.refused("processes", self.sample, "--each", "--sort", "rss_byte"),
        )
        self.assertIn(
            "neither up nor down",
            self.refused("processes", self.sample, "--sort", "users:sideways"),
        )

    def test_columns_are_chosen_and_listed(self):
        (first, *_) = self.rows("processes", self.sample, "--columns", "application,cores_max")
        self.assertEqual(["application", "cores_max"], list(first))
        listed = run("view", "heat", self.sample, "--columns", "help", folder=self.folder).stdout
        self.assertIn("critical, margin", listed)
        self.assertIn(
            "did you mean 'cores_max'",
            self.refused("processes", self.sample, "--columns", "core_max"),
        )

    def test_applications_unfold(self):
        folded = [row["application"] for row in self.rows("processes", self.sample)]
        unfolded = [row["application"] for row in self.rows("processes", self.sample, "--each")]
        self.assertEqual(folded[:5], list(dict.fromkeys(unfolded))[:5])
        flat = [row["cores_mean"] for row in self.rows("processes", self.sample, "--flat")]
        self.assertEqual(sorted(flat, reverse=True), flat)

    def test_a_family_adds_up(self):
        rows = self.rows("processes", self.sample, "--tree")
        self.assertEqual("init", rows[0]["family"])
        below = [row["cores_mean"] for row in rows[1:] if row["family"].startswith("  ")]
        grown = rows[0]["cores_mean"] + sum(below[: self.family_size(rows) - 1])
        self.assertAlmostEqual(rows[0]["family_cores"], grown, places=3)

    def family_size(self, rows):
        ends = (index for index, row in enumerate(rows) if index and row["depth"] == 0)
        return next(ends, len(rows))

    def test_one_process_by_number_and_by_name(self):
        done = run("view", "process", self.sample, "nestcam-index", "--json", folder=self.folder)
        result = json.loads(done.stdout)
        rows = {row["pid"]: row for row in self.rows("processes", self.sample, "--each")}
        row = rows[result["facts"]["pid"]]
        self.assertEqual(row["cpu_s"], result["facts"]["cpu_s"])
        self.assertAlmostEqual(row["cpu_s"], sum(result["over_time"]["cores"]), delta=0.05)
        self.assertEqual(len(result["over_time"]["states"]), len(result["over_time"]["cores"]) + 1)
        self.assertIn("search indexing", result["about"]["what it is"])
        shown = run("view", "process", self.sample, row["pid"], folder=self.folder).stdout
        self.assertIn(f"nestcam-index ({row['pid']}), cause", shown)
        self.assertIn(f"dunmist fix do {self.sample} STEP --pid {row['pid']}", shown)
        first = json.loads(
            run("view", "process", self.sample, "culprit:1", "--json", folder=self.folder).stdout
        )
        (whole,) = (
            item
            for item in self.rows("processes", self.sample)
            if item["application"] == "nestcam-index"
        )
        self.assertEqual(whole["cores_mean"], first["application"]["cores_mean"])
        self.assertLess(row["cores_mean"], whole["cores_mean"])
        self.assertIn("pause it", shown)
        self.assertIn(
            "did you mean 'nestcam-index'", self.refused("process", self.sample, "nestcan-index")
        )
        self.assertIn("the process is missing", self.refused("process", self.sample))
        self.assertIn("No such option", self.refused("cores", self.sample, "--tree"))

    def test_levels_over_time_agree_with_the_verdict(self):
        levels = self.rows("timeline", self.sample)
        for item in self.triage(self.sample)["resources"]:
            whose = (item["resource"], item["name"])
            mine = [row["level"] for row in levels if (row["resource"], row["name"]) == whose]
            if mine:
                with self.subTest(item["resource"]):
                    self.assertGreaterEqual(mine.count(item["level"]), len(mine) / 2)

    def test_throttling_in_a_row_is_one_event(self):
        path = capture_model(load_scenario("cliff-top-laptop"), self.folder / "hot.gz")
        events = json.loads(run("view", "timeline", path, "--json", folder=self.folder).stdout)[
            "events"
        ]
        (core,) = [row for row in events if (row["what"], row["names"]) == ("throttle", "core")]
        counted = next(
            row for row in self.rows("heat", path) if row["sensor"] == "throttle count, core"
        )
        self.assertEqual(counted["last"], core["count"])

    def test_pictures_are_what_their_ending_says(self):
        for topic in ("processes", "memory", "timeline"):
            run("view", topic, self.sample, "-o", f"{topic}.png", folder=self.folder)
            data = (self.folder / f"{topic}.png").read_bytes()
            with self.subTest(topic):
                self.assertEqual(b"\x89PNG", data[:4])
                self.assertGreater(int.from_bytes(data[16:20]), 1000)
        run("view", "process", self.sample, "1", "-o", "one.svg", folder=self.folder)
        self.assertIn("init (1): CPUs", (self.folder / "one.svg").read_text())
        self.one_line("view", "memory", self.sample, "-o", "memory.png")
        self.assertIn(
            "unknown picture ending", self.one_line("view", "cores", self.sample, "-o", "cores.pdf")
        )
        self.assertIn("No such option", self.refused("sessions", self.sample, "-o", "s.png"))

    def test_the_shell_completes_words(self):
        for words, expected in (
            ("dunmist vi", "view"),
            ("dunmist view ti", "timeline"),
            (f"dunmist view process {self.sample} nest", "nestcam-index"),
            (f"dunmist view processes {self.sample} --sort cores_me", "cores_mean"),
            (f"dunmist view processes {self.sample} --sort cores_mean:", "cores_mean:up"),
            (f"dunmist view processes {self.sample} --table bus", "busy_threads"),
            (f"dunmist view processes {self.sample} --owner isb", "isbister"),
            (f"dunmist view processes {self.sample} --name ring", "ring-recovery"),
            (f"dunmist view processes {self.sample} --role vi", "victim"),
        ):
            environment = {
                **os.environ,
                "_DUNMIST_COMPLETE": "bash_complete",
                "COMP_WORDS": words,
                "COMP_CWORD": str(words.count(" ")),
            }
            done = run(folder=self.folder, environment=environment)
            self.assertIn(f"plain,{expected}", done.stdout.splitlines())

    def test_a_bar_adds_up_and_keeps_small_parts(self):
        for amounts in ([1.0, 2.0, 3.0], [1000.0, 1.0, 1.0], [0.0, 5.0], [1e-9, 1.0]):
            self.assertEqual(40, sum(bar_cells(amounts, 40)))
        self.assertEqual([0, 0], bar_cells([0.0, 0.0], 40))
        self.assertEqual(1, bar_cells([100.0, 1.0], 40)[1])


class Settings(InFolder):
    def setUp(self):
        super().setUp()
        self.own = self.folder / "config" / "dunmist"
        self.own.mkdir(parents=True)
        self.environment = {**os.environ, "XDG_CONFIG_HOME": str(self.own.parent)}

    def test_a_sensor_can_be_renamed_and_corrected(self):
        (self.own / "sensors.toml").write_text(
            '[[sensor]]\ndriver = "coretemp"\nchannel = "Core *"\nname = "left core"\nplus = -3\n'
        )
        shown = run(
            "view", "heat", self.sample, "--json", folder=self.folder, environment=self.environment
        )
        rows = {row["sensor"]: row for row in json.loads(shown.stdout)["sensors"]}
        self.assertAlmostEqual(
            rows["coretemp Package id 0"]["last"] - 5, rows["left core"]["last"], places=1
        )

    def test_thresholds_can_be_changed_and_slips_are_told(self):
        own = self.own / "thresholds.toml"
        own.write_text("[cpu]\nstrained_used = 1.5\nchoked_used = 1.5\n")
        result = run(
            "triage", self.sample, "--json", folder=self.folder, environment=self.environment
        )
        self.assertNotEqual("cpu", json.loads(result.stdout)["verdict"]["limiting"])
        own.write_text("[cpu]\nstrained_use = 0.1\n")
        line = self.one_line("triage", self.sample, environment=self.environment)
        self.assertIn("cpu.strained_use", line)


class Outside(InFolder):
    def test_where_no_program_is_to_blame_the_report_says_what_to_do(self):
        path = capture_model(load_scenario("full-cupboard"), self.folder / "full.gz")
        run("report", path, "-o", "r.txt", folder=self.folder)
        text = " ".join((self.folder / "r.txt").read_text().split())
        self.assertIn("no program is to blame", text)
        self.assertIn("du -xh --max-depth=2 -- /srv", text)
        self.assertNotIn("Nothing needs to be done", text)

    def test_steps_stand_under_what_they_are_against_and_only_once(self):
        for patient, first, action in (
            ("still-fan", "The fan does not turn", "plugged in"),
            ("frayed-cable", "enp3s0 is damaged or lost", "Push in the plugs of enp3s0"),
        ):
            with self.subTest(patient):
                path = capture_model(load_scenario(patient), self.folder / f"{patient}.gz")
                text = run("triage", path, folder=self.folder).stdout
                todo = " ".join(text[text.index("What to do") : text.index("Why\n")].split())
                self.assertLess(todo.index(first), todo.index(action))
                for step in ("clean the fan and the cooler", "try another cable"):
                    self.assertLessEqual(text.count(step), 1)
                brief = run("report", path, "--brief", folder=self.folder).stdout.splitlines()
                self.assertIn(first, brief[1])
                self.assertIn(first, self.triage(path)["verdict"]["headline"])
                self.assertIn(action, brief[2])

    def test_programs_are_left_alone_where_none_is_to_blame(self):
        path = capture_model(load_scenario("stolen-hours"), self.folder / "stolen.gz")
        result = self.triage(path)
        self.assertEqual([], result["culprits"])
        self.assertEqual("stolen-time", result["findings"][0]["kind"])
        kinds = ("cpu-hog", "steady-background")
        busy = [item for item in result["findings"] if item["kind"] in kinds]
        self.assertTrue(busy)
        self.assertEqual([], [step for item in busy for step in item["steps"]])

    def test_a_hostile_mount_point_is_quoted_for_the_shell(self):
        full = load_scenario("full-cupboard")
        odd = msgspec.structs.replace(full.hardware.file_systems[1], point="/srv/$(touch,x)")
        hardware = msgspec.structs.replace(full.hardware, file_systems=[odd])
        path = capture_model(
            msgspec.structs.replace(full, hardware=hardware), self.folder / "odd.gz"
        )
        result = self.triage(path)
        step = next(step for item in result["findings"] for step in item["steps"])
        self.assertIn("'/srv/$(touch,x)'", step["command"])


class Now(InFolder):
    """Questions about this computer now, and about the newest capture."""

    def setUp(self):
        super().setUp()
        self.own = {**os.environ, "XDG_STATE_HOME": str(self.folder / "state")}

    def view(self, *arguments, **options):
        return run("view", *arguments, folder=self.folder, environment=self.own, **options)

    def test_without_a_file_it_is_this_computer(self):
        cores = json.loads(self.view("cpu", "--json").stdout)["logical_processors"]
        self.assertEqual(os.cpu_count(), len(cores))
        child = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        said = self.view("process", child.pid).stdout
        self.assertIn(f"({child.pid})", said.splitlines()[0])
        self.assertEqual([], list(self.folder.iterdir()))
        self.one_line("view", "cores", "--since", "1s", status=2)

    def test_words_that_people_use_mean_topics(self):
        for word, topic in (
            ("network", "links"),
            ("CPU", "cores"),
            ("sensors", "heat"),
            ("users", "sessions"),
            ("startup", "autostart"),
            ("ps", "processes"),
            ("complaints", "messages"),
        ):
            with self.subTest(word):
                by_word, by_topic = (
                    json.loads(self.view(name, self.sample, "--json").stdout)
                    for name in (word, topic)
                )
                self.assertEqual(by_topic, by_word)

    def test_last_is_the_newest_capture_of_this_user(self):
        said = self.one_line("triage", "last", environment=self.own)
        self.assertIn("no capture was written yet", said)
        run(
            "capture",
            "--for",
            "0.4s",
            "--every",
            "0.2s",
            "-o",
            "a.gz",
            folder=self.folder,
            environment=self.own,
        )
        result = run("triage", "last", "--json", folder=self.folder, environment=self.own).stdout
        self.assertEqual(str(self.folder / "a.gz"), json.loads(result)["capture"]["path"])
        (self.folder / "a.gz").unlink()
        self.assertIn("a.gz is gone", self.one_line("triage", "last", environment=self.own))
