"""Every patient that ships with the program is judged as its truth says."""

import multiprocessing
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.drawn import random_scenario
from msgspec import structs

from dunmist.advice import RISKS
from dunmist.diagnosis.findings.kernel_messages import TABLE
from dunmist.jobs.judge import judge
from dunmist.simulation import load_scenario, scenario_names
from tests.program import capture_model

# finding, a patient that has it, and its steps as a careful technician would take them
LADDERS = """
autostart-heavy heavy-morning see-autostart
battery-drain tired-battery plug-in
battery-worn tired-battery replace-battery
blocked-on-disk worn-spinner help-victim
bound-to-cpus narrow-ledge see-cpu-binding
core-bound lone-thread wait close pause
cpu-hog ringing-office wait close pause lower-priority limit
cpu-hog still-fan wait close pause limit
defunct-pile left-behind find-parent
deleted-executable odd-corner keep-evidence ask-security
descriptor-leak open-drawers report-fault restart-service
group-frozen frozen-ledge thaw-group
disk-saturated noon-copy find-disk-user
disk-slow worn-spinner save-and-replace-disk
fan-stopped still-fan check-fan
hot-while-idle warm-at-rest clean-fan
inodes-full many-small-notes find-many-files
interrupt-storm noisy-port unplug
kernel-busy dusty-desk see-resource
limit-near crowded-ledge raise-limit
io-limited thin-straw see-io-limit
limit-near open-drawers raise-limit
link-errors frayed-cable replace-cable
link-saturated busy-ferry find-transfer
lock-wait waiting-room end-holder
long-uptime long-watch restart-computer
lookalike-name odd-corner keep-evidence ask-security
low-clock held-back check-power
memory-below-rating slow-memory set-memory-profile
memory-growing opened-album sample-later
memory-hog gone-in-the-night wait close
memory-in-files drifted-snow find-files-in-memory
memory-in-kernel hollow-cliff see-kernel-memory restart-computer
memory-leak slow-drip report-fault restart-service
memory-limited short-tether see-memory-limit
memory-module-unused slow-memory reseat-module
memory-reserved set-aside see-huge-pages
memory-shared unclaimed-nets find-shared-segments
memory-short narrow-burrow find-who-waits
odd-location odd-corner keep-evidence ask-security
oom-kill gone-in-the-night read-kernel-messages find-who-waits
open-port open-door see-who-needs-port
other-user-load other-desk ask-other-person lower-priority
overheating still-fan clean-fan
paging-storm narrow-burrow find-who-waits
port-conflict two-doors see-both-listeners
quota-limited small-ration see-quota
recent-restart heavy-morning read-last-boot
sensor-implausible loose-wire correct-sensor
service-restarting restless-mast read-service-journal stop-service
spawn-storm errands find-starter pause
steady-background odd-corner pause
steady-background heavy-morning wait close pause keep-from-login
steady-transfer quiet-uploader find-transfer pause
drive-failing last-pages save-and-replace-disk
mapping-errors torn-page see-mapping
drive-resets loose-plug check-drive-cable
file-system-damaged loose-plug check-file-system
memory-faulty forgetful-desk test-memory reseat-module
memory-wearing forgetful-desk test-memory
hardware-fault forgetful-desk read-complaints
program-crashes forgetful-desk look-for-update
graphics-reset flickering-screen update-graphics
kernel-hung flickering-screen read-complaints
port-overloaded flickering-screen other-usb-port
device-reconnects flickering-screen other-usb-port
link-flapping flickering-screen replace-cable
gateway-silent dark-lighthouse check-gateway
radio-weak far-cabin go-nearer
drive-too-hot hot-shelf cool-drive
charger-weak thin-cable stronger-charger
drive-warns counting-down save-and-replace-disk
drive-worn counting-down plan-new-drive
drive-cable counting-down check-drive-cable
slow-start late-riser see-start mount-when-used
slow-start slow-index see-start start-later keep-from-boot
unclean-restart lights-out read-last-boot read-crash-record check-mains test-memory
restart-waiting lights-out restart-computer
updates-known slow-drip install-updates
killed-earlier flickering-screen find-who-waits
hot-earlier flickering-screen clean-fan
stolen-time stolen-hours ask-host
storage-full full-cupboard find-space
storage-filling endless-log find-what-grows find-space
stuck-process lost-harbour look-who-does-not-answer end-waiting
thread-swarm many-legs fewer-threads lower-priority limit
throttled still-fan clean-fan
"""
COMPLAINED = {rule.finding for rule in TABLE} | {
    "unclean-restart",
    "restart-waiting",
    "updates-known",
    "drive-warns",
    "drive-worn",
    "drive-cable",
    "drive-too-hot",
    "charger-weak",
    "slow-start",
}
# steps against the first culprit that nobody would want, or that must be there
CULPRITS = {
    "flooded-burrow": ({"restart-service", "stop-service", "report-fault"}, {"end", "force-end"}),
    "noon-copy": ({"lower-disk-priority", "faster-disk"}, {"uninstall", "keep-from-boot"}),
    "narrow-burrow": ({"close", "add-memory"}, {"lower-priority", "limit"}),
    "cliff-top-laptop": ({"clean-cooler", "end-family", "force-end"}, {"lower-priority"}),
    "lone-thread": ({"faster-processor"}, {"add-memory", "limit"}),
}


def triaged(scenario, without=()):
    with TemporaryDirectory() as folder:
        path = Path(folder) / "x.jsonl.gz"
        return judge(capture_model(scenario, path, 30.0, without=without)).triage


def by_name(name):
    return name, triaged(load_scenario(name))


def by_missing(case):
    name, gone = case
    return name, gone, triaged(load_scenario(name), [gone])


def by_seed(seed):
    return seed, triaged(random_scenario(seed))


class Truth(unittest.TestCase):
    """Captured in parallel: the patients are many and independent."""

    def each(self, work, cases):
        with multiprocessing.get_context("spawn").Pool() as pool:
            yield from pool.imap(work, cases, chunksize=1)

    def test_each_patient(self):
        ladders = [line.split() for line in LADDERS.strip().splitlines()]
        for name, result in self.each(by_name, scenario_names()):
            for kind, _, *steps in (ladder for ladder in ladders if ladder[1] == name):
                with self.subTest(name, kind=kind):
                    proposed = [
                        [step.action for step in finding.steps]
                        for finding in result.findings
                        if finding.kind == kind
                    ]
                    self.assertIn(steps, proposed)
            with self.subTest(name):
                truth = load_scenario(name).truth
                self.assertEqual(truth.limiting, result.verdict.limiting)
                named = [item.name for item in result.culprits]
                self.assertEqual([truth.culprit] if truth.culprit else [], named[:1])
                kinds = {finding.kind for finding in result.findings}
                self.assertLessEqual(set(truth.must), kinds)
                self.assertEqual(set(), set(truth.must_not) & kinds)
                # every model's log has what is ordinary, which must say nothing
                self.assertEqual(kinds & COMPLAINED, set(truth.must) & COMPLAINED)
                for culprit in result.culprits:
                    # relief comes before a letter to the maintainer
                    safe = [step for step in culprit.steps if step.action != "report-fault"]
                    risks = [RISKS.index(step.risk) for step in safe]
                    self.assertEqual(sorted(risks), risks, "safest first")
                actions = {step.action for step in result.culprits[0].steps} if named else set()
                if truth.doing:
                    doing = [item.name for item in result.culprits[0].doing if item.what == "code"]
                    self.assertEqual(truth.doing, doing[0])
                if truth.cure and named:
                    self.assertIn(truth.cure, actions)
                wanted, unwanted = CULPRITS.get(name, (set(), set()))
                self.assertLessEqual(wanted, actions)
                self.assertEqual(set(), unwanted & actions)

    def test_what_would_be_free(self):
        names = ("ringing-office", "narrow-burrow", "noon-copy", "busy-ferry", "two-faults")
        units = {"cpu": "cores", "memory": "bytes", "disk": "bytes/s", "link": "bytes/s"}
        for name, result in self.each(by_name, names):
            causes = [culprit for culprit in result.culprits if culprit.role == "cause"]
            with self.subTest(name):
                freed = [cause.frees for cause in causes]
                resource = "cpu" if result.verdict.limiting == "heat" else result.verdict.limiting
                self.assertEqual(
                    {(resource, units[resource])}, {(item.resource, item.unit) for item in freed}
                )
                # in the order of the ranking, and no more than its part of all that is in use
                values = [item.value for item in freed]
                self.assertEqual(sorted(values, reverse=True), values)
                if resource == "cpu":
                    used = next(item.used for item in result.resources if item.resource == "cpu")
                    parts = sum(cause.resources["cpu"] for cause in causes)
                    self.assertLessEqual(parts, used + 0.05)
                for step in causes[0].steps:
                    if step.frees:
                        self.assertLessEqual(step.frees.value, values[0], step.action)
                by_action = {step.action: step.frees for step in causes[0].steps}
                self.assertIsNone(by_action["wait"])
                self.assertNotIn("pause" if resource == "memory" else "add-memory", by_action)
                for entry in result.culprits:
                    if entry.role != "cause":
                        self.assertIsNone(entry.frees)
            if name == "two-faults":
                self.assertIn(
                    "A disk is choked as well: shelf-index takes", result.verdict.headline
                )

    def test_with_a_source_missing_the_culprit_stays_among_the_first_three(self):
        gone = (
            "proc/pressure/*",
            "proc/*/schedstat",
            "proc/*/cgroup",
            "proc/*/exe",
            "sys/class/hwmon/*",
            "proc/*/io",
            "proc/diskstats",
        )
        # where the truth can still be seen in what remains
        names = {
            "ringing-office": gone,
            "lone-thread": gone,
            "narrow-burrow": gone,
            "shelf-scan": gone[:5],
            "busy-ferry": gone,
        }
        cases = [(name, item) for name, missing in names.items() for item in missing]
        for name, without, result in self.each(by_missing, cases):
            with self.subTest(name, without=without):
                named = [culprit.name for culprit in result.culprits[:3]]
                self.assertIn(load_scenario(name).truth.culprit, named)

    def test_the_guilty_part_is_aimed_at_before_the_whole(self):
        scenario = load_scenario("one-enquiry")
        for name, cancelled, ended in (
            ("roost-enquiry", None, "kill -TERM"),
            # what signals mean to a server that is known
            ("postgres", "kill -INT", "kill -TERM"),
            ("nginx", None, "kill -QUIT"),
        ):
            programs = [
                structs.replace(program, name=name) if program.name == "roost-enquiry" else program
                for program in scenario.programs
            ]
            (culprit,) = triaged(structs.replace(scenario, programs=programs)).culprits
            steps = {step.action: step for step in culprit.steps}
            with self.subTest(name):
                self.assertLess(list(steps).index("pause-part"), list(steps).index("pause"))
                pid = steps["pause-part"].command.split()[-1]
                self.assertEqual(f"{ended} {pid}", steps["end-part"].command)
                self.assertEqual(cancelled is not None, "cancel-part" in steps)
                if cancelled:
                    self.assertEqual(f"{cancelled} {pid}", steps["cancel-part"].command)
                self.assertIn("stops its 8 other processes", steps["pause"].text)
                self.assertLess(steps["end-part"].frees.value, steps["pause"].frees.value)

    def test_since_when_it_can_have_been_so(self):
        """What woke five seconds into the capture; what has grown; what moves bytes."""
        for name, at_least, most in (("waking-index", 25.0, 1000.0), ("plate-press", 29.0, 40.0)):
            since = triaged(load_scenario(name)).culprits[0].since
            with self.subTest(name):
                self.assertAlmostEqual(at_least, since.at_least_s, delta=1.5)
                self.assertLessEqual(since.at_least_s, since.at_most_s)
                self.assertLess(since.at_most_s, most)

    def test_since_when_a_device_can_have_been_so(self):
        """By totals of links, disks, throttling and charge, and by the first line of the log."""
        for name, kind, most_s, least_s, word in (
            ("busy-ferry", "link-saturated", 40.0, 29.0, "for at most"),
            ("hot-shelf", "disk-saturated", 60.0, 29.0, "for at most"),
            ("cliff-top-laptop", "throttled", 40.0, 0.0, "for at most"),
            ("stolen-hours", "stolen-time", 40.0, 29.0, "for at most"),
            # four tenths of its charge are gone
            ("thin-cable", "charger-weak", 15_000.0, 0.0, "the computer has been up for"),
            ("endless-log", "storage-filling", 6000.0, 0.0, "for at most"),
            ("last-pages", "drive-failing", None, 5000.0, "first in the kernel's log"),
        ):
            findings = triaged(load_scenario(name)).findings
            since = next(finding.since for finding in findings if finding.kind == kind)
            with self.subTest(name):
                self.assertGreaterEqual(since.at_least_s, least_s)
                if most_s is None:
                    self.assertIsNone(since.at_most_s)
                else:
                    self.assertLessEqual(since.at_least_s, since.at_most_s)
                    self.assertLess(since.at_most_s, most_s)
                self.assertIn(word, since.text)

    def test_who_is_unknown_is_not_called_innocent(self):
        # without rights nobody's reads are seen: the one who makes them waits like the others
        triage = triaged(load_scenario("noon-copy"), ["proc/*/io"])
        steps = {
            finding.subject: [step.action for step in finding.steps]
            for finding in triage.findings
            if finding.kind in ("disk-saturated", "blocked-on-disk")
        }
        self.assertEqual(["see-disk-users"], steps["sda"])
        self.assertEqual(["find-holder"], steps["ledge-copy"])
        told = " ".join(step.text for finding in triage.findings for step in finding.steps)
        self.assertNotIn("Nothing is wrong with", told)

    def test_a_card_that_publishes_nothing_is_not_taken_for_idle(self):
        triage = triaged(load_scenario("picture-wall"), ["sys/class/drm/*/device/gpu_busy_percent"])
        self.assertNotIn("gpu", [state.resource for state in triage.resources])
        told = [spot.what for spot in triage.blind_spots]
        self.assertIn("how busy the graphics card card0 is", told)

    def test_nobody_is_named_on_a_healthy_one(self):
        # every eighth random patient is well and looks as if it were not
        for seed, result in self.each(by_seed, range(7, 8 * 12, 8)):
            with self.subTest(seed=seed):
                self.assertEqual((None, []), (result.verdict.limiting, result.culprits))
