"""Model computers with one thing changed, and what must be said of each."""

import gzip
import json
import random
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec
import numpy as np

from dunmist.diagnosis import diagnose, load_thresholds, thresholds
from dunmist.diagnosis.findings.memory import growth
from dunmist.errors import SettingsError
from dunmist.jobs.judge import judge
from dunmist.jobs.patient import capture_patient
from dunmist.series import Rate, load_series, memory_breakdown
from dunmist.simulation import VirtualClock, load_scenario
from tests.program import capture_model

PATIENT = load_scenario("ringing-office")


def changed(program="nestcam-index", **changes):
    """Return the demo's patient with one program changed."""
    programs = [
        msgspec.structs.replace(item, **changes) if item.name == program else item
        for item in PATIENT.programs
    ]
    return msgspec.structs.replace(PATIENT, programs=programs)


def judged(scenario, **how):
    with TemporaryDirectory() as directory:
        path = capture_model(scenario, Path(directory) / "x.jsonl.gz", duration_s=20.0, **how)
        return judge(path)


class LateClock(VirtualClock):
    """Comes late to each tick, and then takes the one that it missed, as on a slow computer."""

    def sleep_until(self, monotonic_s):
        now_s = self.monotonic_s()
        return super().sleep_until(monotonic_s + 4.5 if monotonic_s > now_s else now_s + 0.2)


class Verdicts(unittest.TestCase):
    def test_ticks_that_come_late_are_judged_by_all_of_their_time(self):
        with TemporaryDirectory() as directory:
            path = Path(directory) / "x.jsonl.gz"
            for name, scenario, limiting in (
                ("six workers", PATIENT, "cpu"),
                ("a thread that rests a tenth", changed(peers=0, demand_cores=0.9), None),
            ):
                with self.subTest(name):
                    capture_patient(scenario, path, 20.0, 1.0, force=True, clock=LateClock)
                    result = judge(path)
                    self.assertEqual(4.0, result.series.machine.logical_processors)
                    self.assertEqual(0.0, result.series.line.gap_s)
                    self.assertEqual(limiting, result.triage.verdict.limiting)

    def test_each_patient_gets_its_own_verdict(self):
        storm = {"peers": 0, "demand_cores": 0.02, "children_per_s": 150.0, "child_cpu_s": 0.04}
        well, ill = ("calm", "busy"), ("strained", "choked")
        for name, scenario, levels, limiting in (
            ("six workers", PATIENT, ill, "cpu"),
            ("one thread", changed(peers=0), ill, "core"),
            ("one of two threads", changed(peers=0, threads=2, demand_cores=0.99), ill, "core"),
            ("short-lived children", changed(**storm), ill, "cpu"),
            ("low priority", changed(nice=15), well, None),
            ("one thread at low priority", changed(peers=0, nice=15), well, None),
            ("hardly anything", changed(peers=0, demand_cores=0.05), well, None),
            ("start-up spike", changed(pattern="start-up"), well, None),
        ):
            with self.subTest(name):
                result = judged(scenario).triage
                self.assertIn(result.verdict.level, levels)
                self.assertEqual(limiting, result.verdict.limiting)
                first = [culprit.name for culprit in result.culprits][:1]
                self.assertEqual(["nestcam-index"] if limiting else [], first)

    def test_programs_that_run_one_after_the_other_fill_one_core(self):
        for per_s, limiting in ((20.0, "core"), (15.0, None)):
            with self.subTest(per_s):
                loop = changed(peers=0, demand_cores=0.01, children_per_s=per_s, child_cpu_s=0.049)
                result = judged(loop).triage
                self.assertEqual(limiting, result.verdict.limiting)
                if limiting:
                    self.assertEqual("nestcam-index", result.culprits[0].name)
                    (core,) = (each for each in result.resources if each.resource == "core")
                    texts = [each.text for each in core.evidence]
                    self.assertTrue(any("one after the other" in text for text in texts), texts)

    def test_an_io_limit_is_told_if_it_is_reached(self):
        patient = load_scenario("thin-straw")
        for wants_mib, most_mib, told in ((8.0, 0.5, True), (0.3, 0.5, False), (8.0, None, False)):
            with self.subTest(wants=wants_mib, most=most_mib):
                programs = [
                    msgspec.structs.replace(
                        each, read_mib_per_s=wants_mib, reads_most_mib_per_s=most_mib
                    )
                    if each.name == "film-copier"
                    else each
                    for each in patient.programs
                ]
                scenario = msgspec.structs.replace(patient, programs=programs)
                kinds = [finding.kind for finding in judged(scenario).triage.findings]
                self.assertEqual(told, "io-limited" in kinds)

    def test_the_culprit_is_found_with_a_source_missing(self):
        for gone in (
            "proc/pressure/*",
            "proc/*/schedstat",
            "sys/devices/system/cpu/cpu*/cpufreq/*",
            "proc/*/exe",
            "proc/*/cgroup",
            "proc/loadavg",
            "proc/*/statm",
        ):
            with self.subTest(gone=gone):
                result = judged(PATIENT, without=[gone]).triage
                self.assertEqual("cpu", result.verdict.limiting)
                self.assertEqual("nestcam-index", result.culprits[0].name)
        self.assertTrue(judged(PATIENT, without=["proc/pressure/*"]).triage.blind_spots)

    def test_short_lived_children_are_attributed_to_who_started_them(self):
        storm = changed(peers=0, demand_cores=0.02, children_per_s=100.0, child_cpu_s=0.02)
        result = judged(storm)
        (item,) = [
            application
            for application in result.series.applications
            if application.name == "nestcam-index"
        ]
        self.assertAlmostEqual(2.0, item.short_lived_cores.mean(), delta=0.1)
        self.assertGreater(result.triage.coverage["cpu"], 0.99)
        self.assertIn("spawn-storm", [finding.kind for finding in result.triage.findings])

    def test_a_culprit_of_another_owner_carries_a_caution(self):
        service = "/system.slice/nestcam.service"
        result = judged(changed(user="root", cgroup=service)).triage
        first = result.culprits[0]
        self.assertIn("root", first.caution)
        self.assertEqual("nestcam.service", first.unit)
        self.assertIn("systemctl stop -- nestcam.service", [step.command for step in first.steps])
        self.assertNotIn("end", [step.action for step in first.steps])

    def test_steps_go_from_safe_to_disruptive(self):
        order = ("none", "reversible", "disruptive")
        for culprit in judged(PATIENT).triage.culprits:
            risks = [order.index(step.risk) for step in culprit.steps]
            self.assertEqual(sorted(risks), risks)


class FewTicks(unittest.TestCase):
    def test_a_shortage_of_ticks_is_no_certainty(self):
        with TemporaryDirectory() as folder:
            whole = capture_model(load_scenario("ringing-office"), Path(folder) / "a.gz", 30.0)
            lines = [json.loads(line) for line in gzip.decompress(whole.read_bytes()).splitlines()]
            kept, missed = [], 0
            for line in lines:
                if line["kind"] == "tick" and line["n"] % 10 not in (0, 1, 2, 5):
                    missed += 1
                    continue
                if line["kind"] == "tick" and missed:
                    gap = {"kind": "event", "what": "gap", "tick": line["n"], "count": missed}
                    kept.append(gap)
                    missed = 0
                kept.append(line)
            few = Path(folder) / "few.gz"
            few.write_bytes(gzip.compress("".join(f"{json.dumps(k)}\n" for k in kept).encode()))
            sure, unsure = (judge(path).triage.verdict for path in (whole, few))
        self.assertEqual(sure.limiting, unsure.limiting)
        self.assertIn("Only 42 % of the planned ticks could be taken", unsure.headline)
        self.assertNotIn("planned ticks", sure.headline)
        self.assertLess(unsure.confidence, sure.confidence - 0.1)


class Series(unittest.TestCase):
    def test_parts_add_up_at_every_tick(self):
        for seed in range(4):
            chance = random.Random(seed)
            scenario = changed(
                peers=chance.randrange(7),
                nice=chance.choice((0, 10)),
                children_per_s=chance.choice((0.0, 80.0)),
                child_cpu_s=0.02,
            )
            with self.subTest(seed=seed), TemporaryDirectory() as directory:
                path = capture_model(scenario, Path(directory) / "x.jsonl.gz", every_s=0.5)
                series = load_series(path)
                machine = series.machine
                used = [application.cores for application in series.applications]
                given = Rate.total_of(series.line, [*used, machine.interrupt_cores])
                # every figure is rounded to clock ticks: two roundings a process and interval
                rounding = 0.02 * len(series.processes) / series.line.interval_s
                apart = abs((given - machine.busy_cores).values)
                self.assertTrue((apart <= rounding).all())
                self.assertAlmostEqual(given.mean(), machine.busy_cores.mean(), delta=0.05)
                for processor in machine.processors:
                    whole = sum(share.values for share in processor.shares.values())
                    np.testing.assert_allclose(1.0, whole)
                parts = sum(held.values for held in memory_breakdown(machine).values())
                total = machine.memory_bytes("MemTotal").values
                self.assertTrue((abs(parts - total) < 0.005 * total).all())

    def test_a_culprit_is_told_from_another_of_its_name(self):
        with TemporaryDirectory() as directory:
            series = load_series(capture_model(PATIENT, Path(directory) / "x.jsonl.gz"))
        first = diagnose(series, thresholds()).culprits[0]
        self.assertEqual("nestcam-index", first.name)
        first.application.has_namesakes = True
        pids = {member.pid for member in first.application.members}
        told = diagnose(series, thresholds()).culprits[0]
        self.assertIn(told.name, [f"nestcam-index (process {pid})" for pid in pids])

    def test_waiting_for_a_quota_is_no_lack_of_processors(self):
        result = judged(load_scenario("small-ration")).diagnosis
        (cpu,) = [resource for resource in result.resources if resource.resource == "cpu"]
        self.assertLess(cpu.pressure, 0.02)
        self.assertIsNone(result.limiting)
        # the kernel counts it: without the quota's figures it would look like a lack
        bare = judged(load_scenario("small-ration"), without=["sys/fs/cgroup/*/*/cpu.*"]).diagnosis
        (cpu,) = [resource for resource in bare.resources if resource.resource == "cpu"]
        self.assertGreater(cpu.pressure, 0.5)
        self.assertNotIn("core-bound", [finding.kind for finding in bare.findings])

    def test_broken_and_repeated_frames_are_one_finding_on_the_link_in_use(self):
        result = judged(load_scenario("frayed-cable")).diagnosis
        (item,) = [finding for finding in result.findings if finding.kind == "link-errors"]
        self.assertEqual("enp3s0", item.subject)
        self.assertEqual(["link-errors", "retransmitted"], [figure.key for figure in item.evidence])

    def test_what_is_kept_from_memory_is_not_blamed(self):
        result = judged(load_scenario("short-tether")).diagnosis
        self.assertEqual(("memory", []), (result.limiting, result.culprits))
        self.assertEqual(
            ("memory-limited", "chart-tiles"),
            (result.external_cause.kind, result.external_cause.subject),
        )
        self.assertIs(result.external_cause, result.findings[0])

    def test_growth_of_what_has_just_started_is_no_leak(self):
        (leaky,) = [
            program
            for program in load_scenario("slow-drip").programs
            if program.name == "chart-tiles"
        ]
        for age_s, expected in ((30.0, "memory-growing"), (600.0, "memory-leak")):
            drip = load_scenario("slow-drip")
            programs = [
                msgspec.structs.replace(program, age_s=age_s) if program == leaky else program
                for program in drip.programs
            ]
            result = judged(msgspec.structs.replace(drip, programs=programs)).diagnosis
            kinds = {
                finding.kind for finding in result.findings if finding.subject == "chart-tiles"
            }
            with self.subTest(age_s):
                self.assertEqual({expected}, kinds & {"memory-growing", "memory-leak"})

    def test_every_threshold_can_be_changed(self):
        with TemporaryDirectory() as directory:
            series = load_series(capture_model(PATIENT, Path(directory) / "x.jsonl.gz"))
        limits = thresholds()
        replace = msgspec.structs.replace
        lenient = replace(limits, cpu=replace(limits.cpu, strained_used=1.1, choked_used=1.1))
        self.assertIsNone(diagnose(series, lenient).limiting)

    def test_the_users_own_thresholds_go_before_the_table(self):
        with TemporaryDirectory() as directory:
            own = Path(directory) / "thresholds.toml"
            self.assertEqual(thresholds(), load_thresholds(own))
            own.write_text("[cpu]\nstrained_used = 0.5\n")
            self.assertEqual(0.5, load_thresholds(own).cpu.strained_used)
            self.assertEqual(thresholds().heat, load_thresholds(own).heat)
            own.write_text("[drives]\nlost_sectors = 2\n[complaints.drive-failing]\nleast = 3\n")
            self.assertEqual(2, load_thresholds(own).drives.lost_sectors)
            self.assertEqual(3, load_thresholds(own).complaints["drive-failing"].least)
            for wrong in (
                "[cpu]\nstrained = 1\n",
                "[cpu]\nbusy = 'x'\n",
                "cpu = 1\n",
                "[cpu",
                "[drives]\nlost_sectors = 1.5\n",
                "[cpu]\nbusy = nan\n",
                "[cpu]\nbusy = true\n",
                "[cpu]\nbusy = -inf\n",
                "[complaints]\nx = 1\n",
                f"[cpu]\nbusy = 1{'0' * 400}\n",
            ):
                own.write_text(wrong)
                with self.subTest(wrong), self.assertRaisesRegex(SettingsError, "thresholds.toml"):
                    load_thresholds(own)

    def test_growth_is_told_from_a_jump_and_from_noise(self):
        at_s = np.arange(16.0)
        noise = np.random.default_rng(5).normal(0, 1e5, 16)
        leak = growth(1e8 + 2e6 * at_s + noise, at_s)
        self.assertAlmostEqual(2e6, leak.typical, delta=5e4)
        self.assertLess(leak.least, leak.typical)
        self.assertGreater(leak.rising, 0.9)
        jump = growth(np.where(at_s > 7, 2e8, 1e8), at_s)
        self.assertLess(jump.rising, 0.2)
        self.assertLess(abs(growth(1e8 + noise, at_s).typical), 3e4)

    def test_a_tie_is_one_answer(self):
        rival = msgspec.structs.replace(
            next(program for program in PATIENT.programs if program.name == "nestcam-index"),
            name="auk-book",
            cgroup="/system.slice/auk-book.service",
        )
        result = judged(
            msgspec.structs.replace(PATIENT, programs=[*PATIENT.programs, rival])
        ).triage
        first, second = result.culprits[:2]
        self.assertEqual(first.confidence, second.confidence)
        self.assertIn(f"{first.name} and {second.name} together take", result.verdict.headline)
