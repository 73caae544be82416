"""What a program is, which steps fit it, and what an act has changed."""

import shlex
import subprocess
import unittest
from collections import defaultdict
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace

import msgspec
import numpy as np

from dunmist.advice import (
    about_lines,
    catalogue,
    disable_command,
    enable_command,
    paging_sentence,
    protected_by_name,
)
from dunmist.advice.case import _circumstances_of_subject
from dunmist.advice.ladder_steps import Acting, filled_steps_of
from dunmist.advice.template_values import sensor_modules, timer_of
from dunmist.advice.wording import ladder
from dunmist.captures import CaptureReader, CaptureWriter
from dunmist.computer import StartEntry, Unit
from dunmist.computer.sensor_drivers import SensorDriver
from dunmist.diagnosis import ResourceState, Trace
from dunmist.errors import Refused
from dunmist.fixing import effect_of, read_journal
from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.sampling import ProcessLine, Survey
from dunmist.series import Surveyed
from dunmist.simulation import load_scenario
from tests.handmade import rate
from tests.program import InFolder, capture_model


@cache
def judged(name):
    with TemporaryDirectory() as folder:
        path = Path(folder) / "x.gz"
        return judge(capture_patient(load_scenario(name), path, 10.0, 1.0))


def oldest(series, program):
    named = (process for process in series.processes.values() if process.name == program)
    return min(named, key=lambda item: item.facts.start_clk)


def told(result, program):
    return dict(about_lines(result.cases.about(oldest(result.series, program))))


class WhatItIs(unittest.TestCase):
    def test_what_is_known_of_a_program(self):
        for name, program, label, expected in (
            ("ringing-office", "weather-mast", "owner", "tides, an account for services"),
            ("ringing-office", "weather-mast", "unit", "weather-mast.service: Weather mast"),
            ("ringing-office", "weather-mast", "started", "with the computer, as weather-mast"),
            ("ringing-office", "weather-mast", "listens on", "tcp 4711 (open to the network)"),
            ("ringing-office", "weather-mast", "package", "weather mast of the Skerrow"),
            ("ringing-office", "nestcam-index", "what it is", "probably search indexing"),
            ("ringing-office", "nestcam-index", "owner", "isbister, a person who is logged in"),
            ("ringing-office", "nestcam-index", "parents", "cliff-desktop"),
            ("cliff-top-laptop", "nestcam-index", "started", "by a person, from cliff-desktop"),
            (
                "heavy-morning",
                "colony-map",
                "started",
                "at login, by /etc/xdg/autostart/colony-map",
            ),
            ("ringing-office", "init", "do not touch", "keeps everything else"),
            ("ringing-office", "cliff-desktop", "do not touch", "logged out"),
            ("narrow-burrow", "kernel task kswapd0", "what it is", "finding free memory"),
            ("other-desk", "drift-model", "owner", "harcus, a person who is logged in"),
            ("odd-corner", "station-joumal", "file", "deleted after the start"),
        ):
            with self.subTest(name, program=program, label=label):
                self.assertIn(expected, told(judged(name), program)[label])

    def test_the_unknown_is_said_to_be_unknown(self):
        result = told(judged("ringing-office"), "chart-table")
        self.assertIn("not in our catalogue", result["what it is"])
        self.assertIn('"chart-table"', result["what to search for"])

    def test_kinds_are_known_by_the_names_that_systems_give_them(self):
        for place, name, key in (
            ("units", "localsearch-3.service", "search-indexing"),
            ("units", "unattended-upgrades.service", "package-updates"),
            ("units", "clamav-daemon.service", "malware-scanning"),
            ("units", "systemd-journald.service", "logging"),
            ("names", "tumblerd", "thumbnails"),
            ("names", "rsync", "backup"),
            ("names", "pipewire-pulse", "sound"),
            ("names", "cupsd", "printing"),
            ("names", "Xorg", "compositing"),
            ("names", "cc1plus", "software-build"),
            ("names", "Isolated Web Co", "web-browser"),
            ("names", "dpkg-deb", "package-updates"),
            ("kernel", "ksoftirqd", "kernel-interrupts"),
            ("kernel", "kworker", "kernel-worker"),
            ("kernel", "jbd2", "kernel-disk"),
            ("kernel", "idle_inject", "kernel-cooling"),
            ("kernel", "kcompactd0", "kernel-reclaim"),
        ):
            with self.subTest(name):
                kinds = [item.key for item in catalogue() if getattr(item, place).match(name)]
                self.assertEqual(key, kinds[0])
        for name in ("nestcam-index2", "tarpaulin", "", "(?!)"):
            kinds = [item.key for item in catalogue() if item.names.match(name)]
            self.assertEqual([], kinds, name)

    def test_a_timer_and_a_replaced_file_are_told(self):
        for later_clk, starts, active, by in (
            (40_000, "enabled", None, "by the timer nightly.timer"),
            (0, "enabled", "active", "with the computer"),
            (0, "disabled", "active", "by the timer nightly.timer"),
            (40_000, "disabled", "inactive", "by the service manager"),
        ):
            with self.subTest(later_clk=later_clk, starts=starts, active=active):
                result = told(self.timed(later_clk, starts, active), "weather-mast")
                self.assertIn(by, result["started"])
                self.assertIn("replaced after the start", result["file"])

    def timed(self, later_clk, starts, active):
        timer = Unit(name="nightly.timer", triggers="weather-mast.service", active=active)

        def change(line):
            if isinstance(line, Survey):
                units = [
                    msgspec.structs.replace(unit, starts=starts)
                    if unit.name == timer.triggers
                    else unit
                    for unit in line.units
                ]
                return msgspec.structs.replace(
                    line, units=[*units, timer], replaced=["/opt/skerrow/bin/weather-mast"]
                )
            if isinstance(line, ProcessLine) and line.facts.name == "weather-mast":
                facts = msgspec.structs.replace(
                    line.facts,
                    start_clk=line.facts.start_clk + later_clk,
                    executable="/opt/skerrow/bin/weather-mast (deleted)",
                )
                return msgspec.structs.replace(line, facts=facts)
            return line

        with TemporaryDirectory() as folder:
            path = capture_model(load_scenario("ringing-office"), Path(folder) / "x.gz")
            changed = Path(folder) / "changed.gz"
            with CaptureReader(path) as reader, CaptureWriter(changed) as writer:
                for line in (reader.header, *reader.lines()):
                    writer.write(change(line))
            return judge(changed)

    def test_whether_paging_matters(self):
        for name, expected in (
            ("narrow-burrow", "It matters: "),
            ("quiet-cellar", "It does not matter: 5"),
            ("ringing-office", "It does not matter: swap is empty"),
        ):
            with self.subTest(name):
                self.assertIn(expected, paging_sentence(judged(name).diagnosis))


class Steps(unittest.TestCase):
    def test_protected_ones_get_no_act_and_no_signal(self):
        for name in ("ringing-office", "narrow-burrow", "other-desk"):
            result = judged(name)
            seen = 0
            for application in result.series.applications:
                case = result.cases.of(application)
                if case.about.protection:
                    seen += 1
                    acts = [filled.act for filled in case.filled_steps if filled.act]
                    self.assertEqual([], acts, application.name)
                    commands = " ".join(filled.step.command or "" for filled in case.filled_steps)
                    self.assertNotIn("kill", commands)
                else:
                    self.assertTrue(case.filled_steps, application.name)
            self.assertGreater(seen, 4, name)

    def test_acts_concern_living_processes_with_their_start(self):
        result = judged("ringing-office")
        application = oldest(result.series, "nestcam-index").application
        filled_steps = {
            filled.step.action: filled for filled in result.cases.of(application).filled_steps
        }
        starts = {(member.pid, member.facts.start_clk) for member in application.members}
        targets = filled_steps["pause"].act.targets
        self.assertEqual(starts, {(target.pid, target.start_clk) for target in targets})
        self.assertEqual(1, len(filled_steps["end"].act.targets))
        self.assertEqual(
            min(target.start_clk for target in targets),
            filled_steps["end"].act.targets[0].start_clk,
        )

    def test_names_that_protect(self):
        for names, key in (
            (("Xorg",), "display"),
            (("x", "NetworkManager"), "network"),
            (("systemd",), "init"),
            (("gdm-session-worker",), "login"),
            (("dbus-daemon",), "bus"),
            (("udisksd",), "storage"),
            (("nestcam-index", "init-of-terns"), None),
        ):
            with self.subTest(names):
                self.assertEqual(key, protected_by_name(*names))

    def test_hostile_names_are_quoted_for_the_shell(self):
        evil = "gull $(touch x);.service"
        patient = load_scenario("flooded-burrow")
        programs = [
            msgspec.structs.replace(program, cgroup=f"/system.slice/{evil}")
            if program.name == "chart-tiles"
            else program
            for program in patient.programs
        ]
        patient = msgspec.structs.replace(patient, programs=programs)
        with TemporaryDirectory() as folder:
            result = judge(capture_patient(patient, Path(folder) / "x.gz", 10.0, 1.0))
        steps = {step.action: step for step in result.triage.culprits[0].steps}
        words = shlex.split(steps["stop-service"].command)
        self.assertEqual(["systemctl", "stop", "--", evil], words)

    def test_threads_that_are_read_by_turns_are_a_blind_spot(self):
        patient = load_scenario("lone-thread")
        busiest = max(patient.programs, key=lambda program: program.demand_cores)
        for threads, told in ((250, False), (300, True)):
            programs = [
                msgspec.structs.replace(program, threads=threads) if program is busiest else program
                for program in patient.programs
            ]
            crowded = msgspec.structs.replace(patient, programs=programs)
            with self.subTest(threads), TemporaryDirectory() as folder:
                result = judge(capture_patient(crowded, Path(folder) / "x.gz", 5.0, 1.0))
                spots = [spot.what for spot in result.triage.blind_spots]
                self.assertEqual(told, f"each thread of {busiest.name}" in spots, spots)

    def test_autostart_entries_go_off_and_on_in_a_real_shell(self):
        with TemporaryDirectory() as folder:
            home = Path(folder) / "it's a home"
            own = home / ".config/autostart/it's gull.desktop"
            own.parent.mkdir(parents=True)
            own.write_text("mine")
            other = own.with_name("tern.desktop")
            environment = {"HOME": str(home), "PATH": "/bin:/usr/bin"}
            for file, gone in ((str(own), own), ("/etc/xdg/autostart/tern.desktop", None)):
                entry = StartEntry("desktop", "x", "x", "login", file)
                subprocess.run(disable_command(entry), shell=True, check=True, env=environment)
                if gone:
                    self.assertFalse(gone.exists())
                else:
                    self.assertIn("Hidden=true", other.read_text())
                subprocess.run(enable_command(entry), shell=True, check=True, env=environment)
            self.assertEqual("mine", own.read_text())
            self.assertFalse(other.exists())


class Effects(unittest.TestCase):
    def state(self, used, pressure=None, name=None):
        held = None if pressure is None else rate(pressure)
        trace = Trace(rate(used), held, np.zeros(len(used), dtype=int))
        return [ResourceState("cpu", "busy", 0.5, None, [], name=name, trace=trace)]

    def test_better_only_beyond_noise(self):
        noisy = [0.5, 0.9, 0.6, 0.8, 0.7, 0.55, 0.85, 0.65]
        for before, after, expected in (
            ([1.0] * 8, [0.1] * 8, "better"),
            ([0.1] * 8, [1.0] * 8, "worse"),
            (noisy, noisy[::-1], "no clear change"),
            (noisy, [0.62] * 8, "no clear change"),
            ([0.50] * 8, [0.49] * 8, "no clear change"),
            ([np.nan] * 8, [0.1] * 8, "no clear change"),
        ):
            with self.subTest(before=before[:2], after=after[:2]):
                effect = effect_of(self.state(before), self.state(after), "cpu", None, 0.03)
                self.assertEqual(expected, effect.verdict)

    def test_what_is_held_up_counts_more_than_how_full_it_is(self):
        effect = effect_of(
            self.state([1.0] * 8, [0.6] * 8), self.state([1.0] * 8, [0.1] * 8), "cpu", None, 0.03
        )
        self.assertEqual(("better", (0.6, 0.1)), (effect.verdict, effect.pressure))
        self.assertIsNone(effect_of(self.state([1.0]), self.state([1.0]), "disk", None, 0.03))


class Journal(InFolder):
    def test_a_line_that_is_none_is_refused(self):
        path = self.folder / "acts.jsonl"
        path.write_text('{"number": 1}\n')
        with self.assertRaisesRegex(Refused, "line 1"):
            read_journal(path)
        self.assertEqual([], read_journal(self.folder / "none"))


class Blame(InFolder):
    def test_for_a_disk_goes_to_who_takes_it_whatever_limits(self):
        path = capture_model(load_scenario("two-faults"), self.folder / "x.jsonl.gz", 20.0)
        result = judge(path).triage
        self.assertEqual("heat", result.verdict.limiting)
        texts = {
            finding.kind: finding.steps[0].text for finding in result.findings if finding.steps
        }
        for kind in ("disk-saturated", "blocked-on-disk"):
            self.assertIn("shelf-index", texts[kind])
            self.assertNotIn(result.culprits[0].name, texts[kind])


class StartSteps(unittest.TestCase):
    """Which steps fit a thing that a start waited for: guards before help."""

    def actions(self, subject, *units):
        surveyed = Surveyed([Survey(tick=0, is_last=True, units=list(units))])
        holding = _circumstances_of_subject(subject, surveyed)
        filling = {
            "systemctl": "systemctl",
            "subject": subject,
            "unit": subject,
            "timer_of": timer_of(subject),
        }
        names = ladder()["finding"]["slow-start"]
        filled_steps = filled_steps_of(
            names, holding, defaultdict(str, filling), Acting(unit=subject)
        )
        return [filled.step.action for filled in filled_steps], filled_steps

    def unit(self, name, starts="enabled"):
        return Unit(name, active="active", sub="running", starts=starts)

    def test_what_is_enabled_can_start_later_or_not_at_all(self):
        actions, filled_steps = self.actions("plate.service", self.unit("plate.service"))
        self.assertEqual(["see-start", "start-later", "keep-from-boot"], actions)
        later = filled_steps[1].step
        self.assertIn("> /etc/systemd/system/plate.timer", later.command)
        self.assertLess(
            later.command.index("disable -- plate.service"),
            later.command.index("enable -- plate.timer"),
        )
        self.assertLess(
            later.undo.index("enable -- plate.service"),
            later.undo.index("rm -- /etc/systemd/system/plate.timer"),
        )
        self.assertEqual(
            ("disable-unit", "plate.service"), (filled_steps[2].act.verb, filled_steps[2].act.unit)
        )

    def test_what_others_need_or_start_is_only_looked_at(self):
        for name, starts in (
            ("plate.service", "static"),
            ("plate.service", None),
            ("dbus.service", "enabled"),
            ("NetworkManager.service", "enabled"),
            ("systemd-journald.service", "enabled"),
            ("user@1004.service", "enabled"),
            ("display-manager.service", "enabled"),
        ):
            with self.subTest(name, starts=starts):
                self.assertEqual(["see-start"], self.actions(name, self.unit(name, starts))[0])

    def test_a_timer_that_is_there_is_not_written_over(self):
        units = self.unit("plate.service"), self.unit("plate.timer")
        self.assertEqual(["see-start", "keep-from-boot"], self.actions("plate.service", *units)[0])

    def test_a_name_that_is_none_becomes_no_file(self):
        for name in ("../../cron.d/x.service", "-x.service", "a b.service", "x\n.service"):
            with self.subTest(name):
                self.assertEqual(["see-start"], self.actions(name, self.unit(name))[0])

    def test_a_file_system_is_mounted_when_it_is_used(self):
        self.assertEqual(["see-start", "mount-when-used"], self.actions("srv-ledge.mount")[0])
        # nothing at all is known of it
        self.assertEqual(["see-start"], self.actions("network-online.target")[0])


class Missing(unittest.TestCase):
    """Drivers of sensors are a step only where loading one would show heat."""

    def modules(self, *drivers):
        missing = [SensorDriver(*driver) for driver in drivers]
        inventory = SimpleNamespace(missing_drivers=missing)
        return sensor_modules(SimpleNamespace(header=SimpleNamespace(inventory=inventory)))

    def test_installed_ones_of_the_processor_and_the_board(self):
        self.assertEqual(
            ["coretemp", "nct6775"],
            self.modules(
                ("coretemp", "processor", True),
                ("drivetemp", "drives", True),
                ("nct6775", "board", True),
                ("k10temp", "processor", False),
            ),
        )
        self.assertEqual([], self.modules(("drivetemp", "drives", True)))
        self.assertEqual([], self.modules())
