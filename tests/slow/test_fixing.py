"""Acts on real child programs: the right one is hit, nothing else is, and it can be undone."""

import gzip
import json
import os
import pwd
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

import msgspec

from dunmist.advice import Act, Target
from dunmist.captures import CaptureReader
from dunmist.computer import Root
from dunmist.errors import Refused
from dunmist.fixing import carry_out, read_journal, undo
from dunmist.fixing.drop_ins import quota_drop_in, remove_drop_in
from dunmist.jobs import journal_path
from dunmist.simulation import load_scenario
from tests.bus_stand_in import StandIn
from tests.program import DUNMIST, InFolder, capture_model, run, start_busy

READY = "import os, time\nprint('ready', os.getpid(), flush=True)\n"
SLEEP = READY + "time.sleep(60)\n"
# a server of four workers, of which the last one spins
WORKERS = READY + (
    "for place in range(4):\n"
    "    if not os.fork():\n"
    "        end = time.monotonic() + 60\n"
    "        while place == 3 and time.monotonic() < end: pass\n"
    "        time.sleep(60); os._exit(0)\n"
    "time.sleep(60)\n"
)
DEAF = "import signal, time\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\n" + SLEEP
THREADS = (
    "import threading, time\nfor _ in range(3):"
    " threading.Thread(target=time.sleep, args=(60,), daemon=True).start()\n" + SLEEP
)
# a third of a CPU before all ordinary tasks
HASTY = """
import os, threading, time
os.sched_setscheduler(0, os.SCHED_RR, os.sched_param(3))
threading.Thread(target=time.sleep, args=(60,), daemon=True).start()
print("ready", os.getpid(), flush=True)
end = time.monotonic() + 60
while time.monotonic() < end:
    begin = time.monotonic()
    while time.monotonic() < begin + 0.02: pass
    time.sleep(0.04)
"""
FAMILY = (
    "import subprocess, sys, time\nif len(sys.argv) == 1:\n"
    "    for _ in range(3): subprocess.Popen([sys.executable, __file__, 'child'])\n" + SLEEP
)
KEEPER = (
    READY + "import subprocess, sys\nwhile True:\n"
    "    subprocess.run([sys.executable, sys.argv[1]], check=False)\n"
)
RENAMED = (
    "import signal\ndef rename(*_): open('/proc/self/comm', 'w').write('sshd')\n"
    "signal.signal(signal.SIGUSR1, rename)\n" + SLEEP
)
# in a process number namespace of its own: gives a number away again between capture and act
REUSE = """
import subprocess, sys, pathlib
dunmist, folder = sys.argv[1:]
def start(name):
    script = pathlib.Path(folder, name); script.write_text("import time; time.sleep(60)")
    return subprocess.Popen([sys.executable, script])
first = start("first_tern.py")
subprocess.run([dunmist, "capture", "-o", "reuse.gz", "--for", "0.4s", "--every", "0.2s"],
               check=True, cwd=folder, stderr=subprocess.DEVNULL)
first.kill(); first.wait()
pathlib.Path("/proc/sys/kernel/ns_last_pid").write_text(str(first.pid - 1))
second = start("second_tern.py")
assert second.pid == first.pid, (second.pid, first.pid)
for step in ("pause", "end", "force-end"):
    done = subprocess.run([dunmist, "fix", "do", "reuse.gz", step, "--pid", str(first.pid),
                           "--yes", "--no-measure"], cwd=folder, capture_output=True, text=True)
    print(done.returncode, done.stderr.strip())
state = pathlib.Path(f"/proc/{second.pid}/stat").read_text().split()[2]
print("second", second.poll(), state)
"""
# loads what it needs, then gives up its rights: the interpreter's files may not be for everybody
NOBODY = """
import os, sys
from pathlib import Path
from dunmist.cli import fix_actions, fix, main
from dunmist.jobs import collector_files, journal_path, selection
from dunmist.jobs.judge import judge
selection.choose_owner_of(judge(Path(sys.argv[2])), int(sys.argv[4]))
journal_path()
os.setgid(65534)
os.setuid(65534)
main.run()
"""


def can_have_a_namespace():
    if os.geteuid() or not shutil.which("unshare"):
        return False
    tried = subprocess.run(
        [
            "unshare",
            "--pid",
            "--fork",
            "--mount-proc",
            "test",
            "-w",
            "/proc/sys/kernel/ns_last_pid",
        ],
        check=False,
    )
    return tried.returncode == 0


def may_be_real_time():
    """Whether a program may take real-time priority, which some containers forbid to root."""
    asked = "import os; os.sched_setscheduler(0, os.SCHED_RR, os.sched_param(3))"
    done = subprocess.run([sys.executable, "-c", asked], check=False, capture_output=True)
    return os.geteuid() == 0 and done.returncode == 0


class Acting(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        self.environment = {
            **os.environ,
            "XDG_STATE_HOME": str(self.folder / "state"),
            "XDG_CONFIG_HOME": str(self.folder / "config"),
            "HOME": str(self.folder),
        }
        # which steps a program gets depends on what limits, and that on who else works here
        settings = self.folder / "config" / "dunmist" / "thresholds.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text("[core]\nbound_share = 2.0\n[memory]\nstrained_pressure = 2.0\n")
        self.capture = self.folder / "now.jsonl.gz"

    def start(self, name, text, *arguments):
        script = self.folder / name
        script.write_text(text)
        child = subprocess.Popen(
            [sys.executable, script, *arguments],
            start_new_session=True,
            cwd=self.folder,
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(child.stdout.close)
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        # what it starts says so as well
        # in the same pipe, where two lines may run into each other
        while f"ready {child.pid}" not in child.stdout.readline():
            self.assertIsNone(child.poll(), "it ended before it was ready")
        return child

    def children_of(self, child, count):
        """Return the numbers of a process's children once there are so many."""
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            result = Path(f"/proc/{child.pid}/task/{child.pid}/children").read_text().split()
            if len(result) == count:
                return result
            time.sleep(0.05)
        self.fail(f"there are no {count} children")

    def sample_now(self):
        run(
            "capture",
            "-o",
            self.capture,
            "--for",
            "0.4s",
            "--every",
            "0.2s",
            "--force",
            folder=self.folder,
        )

    def fix(self, *arguments, status=0):
        return run(
            "fix",
            self.capture,
            *arguments,
            folder=self.folder,
            status=status,
            environment=self.environment,
        )

    def step(self, pid, phrase, *more, status=0):
        """Carry out the step of a process whose text has the phrase, or show it."""
        lines = self.fix("--pid", pid).stdout.splitlines()
        number = next(line.split(".")[0].strip() for line in lines if phrase in line)
        return self.fix("--pid", pid, "--step", number, "--no-measure", *more, status=status)

    def undo(self, *arguments, status=0):
        return run(
            "fix",
            "--undo",
            *arguments,
            folder=self.folder,
            status=status,
            environment=self.environment,
        )

    def state(self, pid):
        return Path(f"/proc/{pid}/stat").read_text().rpartition(") ")[2][0]

    def nice_values(self, pid):
        return [
            os.getpriority(os.PRIO_PROCESS, int(tid)) for tid in os.listdir(f"/proc/{pid}/task")
        ]

    def test_it_only_shows_unless_told(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        shown = self.step(child.pid, "Pause").stdout
        self.assertIn(f"kill -STOP {child.pid}", shown)
        self.assertIn("Nothing was done", shown)
        self.assertEqual("S", self.state(child.pid))
        self.assertFalse((self.folder / "state").exists())

    def test_pause_and_undo(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        self.step(child.pid, "Pause", "--yes")
        self.assertEqual("T", self.state(child.pid))
        self.undo()
        self.assertNotEqual("T", self.state(child.pid))
        self.assertIn("holds no act", self.undo(status=1).stderr)
        listed = run("fix", "--list", folder=self.folder, environment=self.environment).stdout
        self.assertEqual(2, listed.count("idle_tern.py"))

    def test_only_the_process_that_takes_it_is_paused(self):
        """Of a server with three idle workers and one that spins, as of any that serves others."""
        server = self.start("tern_server.py", WORKERS)
        workers = self.children_of(server, 4)
        for pid in workers:
            self.addCleanup(os.kill, int(pid), signal.SIGKILL)
        run(*("capture", "-o", self.capture, "--for", "2s", "--every", "0.5s"), folder=self.folder)
        shown = self.step(server.pid, "Pause only process").stdout
        self.assertIn(f"kill -STOP {workers[-1]}\n", shown)
        self.step(server.pid, "Pause only process", "--yes")
        idle = [self.state(pid) for pid in (server.pid, *workers[:-1])]
        self.assertEqual(["S"] * 4, idle)
        self.assertEqual("T", self.state(workers[-1]))
        self.undo()
        self.assertNotEqual("T", self.state(workers[-1]))

    def test_priority_of_every_thread_and_back(self):
        child = self.start("many_terns.py", THREADS)
        self.sample_now()
        self.step(child.pid, "Lower the priority", "--yes")
        self.assertEqual([10] * 4, self.nice_values(child.pid))
        if os.geteuid() == 0:
            self.undo()
            self.assertEqual([0] * 4, self.nice_values(child.pid))
        else:
            self.assertIn("administrator", self.undo(status=1).stderr)

    @unittest.skipUnless(may_be_real_time(), "real-time priority is not allowed here")
    def test_real_time_priority_is_taken_and_given_back(self):
        child = self.start("hasty_tern.py", HASTY)
        self.sample_now()
        shown = self.fix("--pid", child.pid).stdout
        self.assertNotIn("lower-priority", shown)
        done = self.step(child.pid, "Take real-time priority", "--yes")
        self.assertIn("set for 2 threads", done.stdout)
        self.assertEqual({os.SCHED_OTHER}, self.policies(child.pid))
        self.undo()
        self.assertEqual({os.SCHED_RR}, self.policies(child.pid))
        self.assertEqual(3, os.sched_getparam(child.pid).sched_priority)

    def policies(self, pid):
        threads = Path(f"/proc/{pid}/task").iterdir()
        return {os.sched_getscheduler(int(thread.name)) for thread in threads}

    def test_a_polite_end_then_force(self):
        child = self.start("deaf_tern.py", DEAF)
        self.sample_now()
        failed = self.step(child.pid, "to exit", "--yes", status=1)
        self.assertIn(f"still running: {child.pid}", failed.stdout)
        self.step(child.pid, "by force", "--yes")
        self.assertEqual(-9, child.wait(60))
        self.assertIn("cannot be undone", self.undo("2", status=1).stderr)

    def test_a_family_ends_with_its_children(self):
        child = self.start("tern_colony.py", FAMILY)
        self.children_of(child, 3)
        bystander = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        self.assertIn("closed, 4 of 4", self.step(child.pid, "all processes", "--yes").stdout)
        self.assertEqual("S", self.state(bystander.pid))

    def test_what_another_program_of_the_family_does_is_left_alone(self):
        (self.folder / "letter.py").write_text(SLEEP)
        open_it = "    subprocess.Popen([sys.executable, 'letter.py'])\n    for _"
        opener = FAMILY.replace("    for _", open_it)
        child = self.start("tern_files.py", opener)
        letter = next(
            item
            for item in self.children_of(child, 4)
            if b"letter.py" in Path(f"/proc/{item}/cmdline").read_bytes()
        )
        self.sample_now()
        self.assertIn("4 of 4", self.step(child.pid, "all processes", "--yes").stdout)
        self.assertEqual("S", self.state(letter))
        os.kill(int(letter), 9)

    def test_one_that_comes_back_is_noticed(self):
        (self.folder / "kept_tern.py").write_text(SLEEP)
        keeper = self.start("tern_keeper.py", KEEPER, str(self.folder / "kept_tern.py"))
        self.addCleanup(lambda: os.killpg(keeper.pid, 9))
        (kept,) = self.children_of(keeper, 1)
        self.sample_now()
        failed = self.step(kept, "to exit", "--yes", status=1)
        self.assertIn("came back with a new number", failed.stdout)

    def test_it_measures_whether_it_helped(self):
        child = start_busy(self, "busy_tern.py")
        run("capture", "-o", self.capture, "--for", "3s", "--every", "0.25s", folder=self.folder)
        lines = self.fix("--pid", child.pid).stdout.splitlines()
        number = next(line.split(".")[0].strip() for line in lines if "Pause" in line)
        said = self.fix("--pid", child.pid, "--step", number, "--yes").stdout
        self.assertRegex(said, "(?m)^(better|no clear change|worse): cpu used ")
        before, after = re.search(
            r"itself used ([\d.]+) cores .* before, ([\d.]+) cores", said
        ).groups()
        self.assertGreater(float(before), 0.1)
        self.assertLess(float(after), 0.05)
        expected, freed = re.search(r"expected ([\d.]+) cores, freed ([\d.]+)", said).groups()
        self.assertAlmostEqual(float(expected), float(freed), delta=0.2)
        if not said.startswith("better") and "\nbetter" not in said:
            self.assertIn("let busy_tern.py go on: dunmist fix undo 1", said)
        options = {"folder": self.folder, "environment": self.environment}
        self.assertIn("1 acts that were measured helped", run("fix", "--list", **options).stdout)
        time.sleep(1.0)
        run("capture", "-o", "later.gz", "--for", "1s", "--every", "0.5s", **options)
        report = run("report", "later.gz", "-o", "-", **options).stdout
        self.assertRegex(
            " ".join(report.split()),
            r"What was done -+ - .*pause busy_tern.py: 1 of "
            r"1 processes are paused; .*expected [\d.]+ cores, freed",
        )

    def test_ctrl_c_while_it_measures_means_do_nothing_more(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        # what was sampled long ago tells nothing of just before
        text = gzip.decompress(self.capture.read_bytes()).decode()
        began = re.search(r'"started":"(\d{4})', text)[1]
        text = text.replace(f'"started":"{began}', f'"started":"{int(began) - 1}', 1)
        self.capture.write_bytes(gzip.compress(text.encode()))
        lines = self.fix("--pid", child.pid).stdout.splitlines()
        number = next(line.split(".")[0].strip() for line in lines if "Pause" in line)
        for after_s, said, state in ((2.0, "nothing was done", "S"), (1.0, "act 1 is done", "T")):
            with self.subTest(said):
                fixing = subprocess.Popen(
                    [
                        DUNMIST,
                        "fix",
                        str(self.capture),
                        "--pid",
                        str(child.pid),
                        "--step",
                        number,
                        "--yes",
                    ],
                    env=self.environment,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    text=True,
                )
                # the act lies between two measurements of some seconds each
                if state == "T":
                    while "act 1" not in (shown := fixing.stdout.readline()):
                        self.assertTrue(shown, "it ended before it acted")
                time.sleep(after_s)
                began = time.monotonic()
                fixing.send_signal(signal.SIGINT)
                _, line = fixing.communicate(timeout=60)
                self.assertLess(time.monotonic() - began, 15.0)
                self.assertEqual(1, fixing.returncode)
                self.assertIn(said, line)
                self.assertEqual(state, self.state(child.pid))

    def test_it_measures_the_very_processes_and_not_their_namesakes(self):
        child = start_busy(self, "twin_tern.py")
        other = self.folder / "elsewhere"
        other.mkdir()
        script = shutil.copy(self.folder / "twin_tern.py", other)
        namesake = subprocess.Popen([sys.executable, script])
        self.addCleanup(namesake.wait)
        self.addCleanup(namesake.kill)
        run("capture", "-o", self.capture, "--for", "3s", "--every", "0.25s", folder=self.folder)
        ladder = self.fix("--pid", child.pid).stdout
        self.assertIn(f"twin_tern.py (process {child.pid})", ladder)
        number = next(line.split(".")[0].strip() for line in ladder.splitlines() if "Pause" in line)
        said = self.fix("--pid", child.pid, "--step", number, "--yes").stdout
        self.assertEqual("R", self.state(namesake.pid))
        after = re.search(r"itself used .* before, ([\d.]+) cores", said)[1]
        # the namesake goes on, and is not counted
        self.assertLess(float(after), 0.05)

    def test_protected_and_ended_ones_are_left_alone(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        for pid in (1, os.getpid()):
            listed = self.fix("--pid", pid).stdout
            self.assertIn("Do not pause or end", listed)
            self.assertNotIn("kill", listed)
        child.kill()
        child.wait()
        self.assertIn("has ended since", self.step(child.pid, "Pause", "--yes", status=1).stderr)

    def test_what_became_protected_since_the_capture_is_refused(self):
        child = self.start("idle_tern.py", RENAMED)
        self.sample_now()
        child.send_signal(signal.SIGUSR1)
        deadline = time.monotonic() + 60
        while "sshd" not in Path(f"/proc/{child.pid}/comm").read_text():
            self.assertLess(time.monotonic(), deadline)
            time.sleep(0.05)
        self.assertIn("is protected", self.step(child.pid, "Pause", "--yes", status=1).stderr)
        self.assertEqual("S", self.state(child.pid))

    def test_the_owner_is_told_what_was_done_and_not_taken_back(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        told = ["report", self.capture, "-o", "-", "--audience", "owner"]
        for act, expected in (
            (lambda: self.step(child.pid, "Pause", "--yes"), "was paused"),
            (self.undo, "Nothing was changed"),
        ):
            act()
            text = run(*told, folder=self.folder, environment=self.environment).stdout
            self.assertIn(expected, text)

    def test_the_journal_is_for_its_user_alone(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        self.step(child.pid, "Pause", "--yes")
        (journal,) = (self.folder / "state").rglob("*.jsonl")
        self.assertEqual(0o600, journal.stat().st_mode & 0o777)
        begun, done = map(json.loads, journal.read_text().splitlines())
        self.assertEqual(("begun", "done"), (begun["stage"], done["stage"]))
        self.assertEqual(child.pid, begun["act"]["targets"][0]["pid"])

    def test_only_this_boot_and_this_computer(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        lines = gzip.decompress(self.capture.read_bytes()).splitlines()
        header = json.loads(lines[0])
        for change, words in (
            ({"machine": {**header["machine"], "boot_id": "another"}}, "an earlier boot"),
            ({"live": False}, "a model or a copy"),
        ):
            with self.subTest(words=words):
                changed = [json.dumps({**header, **change}).encode(), *lines[1:]]
                self.capture.write_bytes(gzip.compress(b"\n".join(changed) + b"\n"))
                self.assertIn(words, self.step(child.pid, "Pause", "--yes", status=1).stderr)
                self.assertEqual("S", self.state(child.pid))
                told = run("triage", self.capture, folder=self.folder).stderr
                self.assertEqual("boot" in words, "started again since the capture" in told)

    @unittest.skipUnless(os.geteuid() == 0, "only the administrator can become nobody")
    def test_other_peoples_are_refused_without_privilege(self):
        child = self.start("idle_tern.py", SLEEP)
        self.sample_now()
        self.folder.chmod(0o755)
        self.capture.chmod(0o644)
        done = subprocess.run(
            [
                sys.executable,
                "-c",
                NOBODY,
                "fix",
                self.capture,
                "--pid",
                str(child.pid),
                "--step",
                "2",
                "--yes",
                "--no-measure",
            ],
            capture_output=True,
            text=True,
            check=False,
            env=self.environment,
        )
        self.assertEqual(1, done.returncode, done.stderr)
        self.assertIn("not to you", done.stderr)
        self.assertEqual("S", self.state(child.pid))

    @unittest.skipUnless(can_have_a_namespace(), "needs a namespace of process numbers")
    def test_a_number_given_away_again_is_not_hit(self):
        done = subprocess.run(
            [
                "unshare",
                "--pid",
                "--fork",
                "--mount-proc",
                "--kill-child",
                sys.executable,
                "-c",
                REUSE,
                DUNMIST,
                str(self.folder),
            ],
            capture_output=True,
            text=True,
            check=False,
            env=self.environment,
            timeout=60,
        )
        self.assertEqual(0, done.returncode, done.stderr)
        *refused, last = done.stdout.splitlines()
        self.assertTrue(all(line.startswith("1 dunmist: ") for line in refused), refused)
        self.assertEqual("second None S", last)


class Units(InFolder):
    def setUp(self):
        super().setUp()
        self.journal = self.folder / "acts.jsonl"
        with CaptureReader(self.sample) as reader:
            self.header = reader.header

    def serve(self, **more):
        bus = StandIn(self.folder / "bus", **more)
        bus.start()
        self.addCleanup(bus.close)
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = f"unix:path={self.folder / 'bus'}"
        self.addCleanup(os.environ.pop, "DBUS_SYSTEM_BUS_ADDRESS")
        return bus

    def asked(self, bus):
        return [
            (name, body) for name, body in bus.calls if name not in ("Hello", "LoadUnit", "GetAll")
        ]

    def test_only_the_drop_in_of_the_managers_own_control_is_found(self):
        control, me = "/run/systemd/system.control/tern.service.d", os.geteuid()
        own = f"/run/user/{me}/systemd/user.control/tern.service.d"
        for path, uid, wanted in (
            (f"{control}/50-CPUQuota.conf", None, True),
            (f"{own}/50-CPUQuota.conf", me, True),
            ("/etc/systemd/system.control/tern.service.d/50-CPUQuota.conf", None, False),
            ("/etc/systemd/system/tern.service.d/50-CPUQuota.conf", None, False),
            (f"{control}/50-MemoryMax.conf", None, False),
            ("/run/systemd/system.control/auk.service.d/50-CPUQuota.conf", None, False),
            (f"{control}/../../../etc/tern.service.d/50-CPUQuota.conf", None, False),
            # a person's manager is not believed about the system's, nor by anybody else
            (f"{control}/50-CPUQuota.conf", me, False),
            (f"{own}/50-CPUQuota.conf", None, False),
            (
                f"/run/user/{me + 7}/systemd/user.control/tern.service.d/50-CPUQuota.conf",
                me + 7,
                False,
            ),
        ):
            with self.subTest(path, uid=uid):
                found = quota_drop_in([path], "tern.service", uid)
                self.assertEqual(path if wanted else None, found)

    def test_a_drop_in_goes_and_what_is_beside_it_stays(self):
        place = self.folder / "tern.service.d"
        place.mkdir()
        for name in ("50-CPUQuota.conf", "50-MemoryMax.conf"):
            (place / name).write_text("[Service]\n")
        remove_drop_in(str(place / "50-CPUQuota.conf"))
        self.assertEqual(["50-MemoryMax.conf"], [path.name for path in place.iterdir()])
        remove_drop_in(str(place / "50-MemoryMax.conf"))
        self.assertFalse(place.exists())
        remove_drop_in(str(place / "50-MemoryMax.conf"))

    def test_each_act_and_its_undo(self):
        unit, root = "tern.service", Root(Path("/"))
        bus = self.serve()
        quota = ("SetUnitProperties", (unit, True, [("CPUQuotaPerSecUSec", ("t", 500_000))]))
        # what the administrator had given it
        quota_before = (
            "SetUnitProperties",
            (unit, True, [("CPUQuotaPerSecUSec", ("t", 1_800_000))]),
        )
        enable = ("EnableUnitFiles", ([unit], False, False))
        start = ("StartUnit", (unit, "replace"))
        for verb, said, done, undone in (
            ("stop-unit", "stopped", [("StopUnit", (unit, "replace"))], [start]),
            ("limit", "at 50 %", [quota], [quota_before]),
            (
                "disable-unit",
                "switched off",
                [("DisableUnitFiles", ([unit], False)), ("Reload", ())],
                [enable, ("Reload", ())],
            ),
            (
                "disable-timer",
                "switched off and stopped",
                [
                    ("DisableUnitFiles", ([unit], False)),
                    ("Reload", ()),
                    ("StopUnit", (unit, "replace")),
                ],
                [enable, ("Reload", ()), start],
            ),
        ):
            with self.subTest(verb=verb):
                bus.calls.clear()
                outcome = carry_out(
                    Act(verb, unit=unit, percent=50), self.header, root, self.journal
                )
                self.assertEqual((f"{unit} is now {said}", True), outcome[:2])
                self.assertEqual(done, self.asked(bus))
                undo(self.journal, None, root)
                self.assertEqual(undone, self.asked(bus)[len(done) :])

    def test_a_unit_that_hangs_is_not_called_stopped(self):
        self.serve(hangs=True)
        with mock.patch("dunmist.fixing.units.SETTLE_S", 0.5):
            outcome = carry_out(
                Act("stop-unit", unit="tern.service"), self.header, Root(Path("/")), self.journal
            )
        self.assertFalse(outcome.worked)
        self.assertIn("not stopped: ActiveState is deactivating", outcome.text)

    def test_undo_restores_what_was_and_invents_nothing(self):
        bus, root = self.serve(), Root(Path("/"))
        bus.properties["/u/tern", "Unit"] |= {
            "ActiveState": ("s", "inactive"),
            "UnitFileState": ("s", "disabled"),
        }
        for verb, said in (("stop-unit", "was not running"), ("disable-unit", "did not start")):
            with self.subTest(verb):
                carry_out(Act(verb, unit="tern.service"), self.header, root, self.journal)
                bus.calls.clear()
                self.assertIn(said, undo(self.journal, None, root))
                self.assertEqual([], self.asked(bus))
        start_clk = int(Path("/proc/self/stat").read_text().rpartition(") ")[2].split()[19])
        me = Target(os.getpid(), start_clk, "me", os.geteuid())
        # a journal that was cut off before it knew, or that somebody else wrote
        line = json.loads(self.journal.read_bytes().splitlines()[0]) | {"number": 9}
        line.pop("unit_before")
        nice = os.getpriority(os.PRIO_PROCESS, 0)
        for verb, targets in (("limit", []), ("lower-priority", [me])):
            with self.subTest(verb, remembered=False):
                line["act"] |= {"verb": verb, "targets": msgspec.to_builtins(targets)}
                self.journal.write_text(json.dumps(line) + "\n")
                with self.assertRaisesRegex(Refused, "not written down"):
                    undo(self.journal, 9, root)
        self.assertEqual([], self.asked(bus))
        self.assertEqual(nice, os.getpriority(os.PRIO_PROCESS, 0))

    def test_a_restart_cannot_be_undone(self):
        self.serve()
        root = Root(Path("/"))
        carry_out(Act("restart-unit", unit="tern.service"), self.header, root, self.journal)
        with self.assertRaisesRegex(Refused, "no act that could be undone"):
            undo(self.journal, None, root)

    def test_without_a_manager_it_says_so(self):
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = f"unix:path={self.folder / 'none'}"
        self.addCleanup(os.environ.pop, "DBUS_SYSTEM_BUS_ADDRESS")
        with self.assertRaisesRegex(Refused, "did not do it for tern.service"):
            carry_out(
                Act("stop-unit", unit="tern.service"), self.header, Root(Path("/")), self.journal
            )
        # nothing could be remembered, so nothing was begun
        self.assertEqual([], read_journal(self.journal))

    def test_a_torn_line_is_passed_over_and_no_link_is_followed(self):
        self.serve()
        act, root = Act("stop-unit", unit="tern.service"), Root(Path("/"))
        carry_out(act, self.header, root, self.journal)
        with self.journal.open("ab") as stream:
            stream.write(b'{"number":2,"at":"20')
        with self.assertLogs("dunmist", "WARNING"):
            self.assertEqual(["begun", "done"], [item.stage for item in read_journal(self.journal)])
            carry_out(act, self.header, root, self.journal)
        self.assertEqual([1, 1, 2, 2], [item.number for item in read_journal(self.journal)])
        self.journal.rename(self.folder / "elsewhere")
        self.journal.symlink_to(self.folder / "elsewhere")
        kept = (self.folder / "elsewhere").read_bytes()
        with self.assertRaisesRegex(Refused, "is a link"):
            carry_out(act, self.header, root, self.journal)
        self.assertEqual(kept, (self.folder / "elsewhere").read_bytes())

    @unittest.skipUnless(os.geteuid() == 0, "needs an administrator")
    def test_the_administrators_journal_is_in_nobody_elses_home(self):
        theirs, shared, mine = (self.folder / name for name in ("theirs", "shared", "mine"))
        for place in (theirs, shared, mine):
            place.mkdir(mode=0o700)
        os.chown(theirs, 65534, 65534)
        shared.chmod(0o777)
        own = Path(pwd.getpwuid(0).pw_dir) / ".local/state/dunmist"
        for place, expected in ((theirs, own), (shared, own), (mine, mine / "dunmist")):
            with mock.patch.dict(os.environ, {"XDG_STATE_HOME": str(place)}):
                self.assertEqual(expected, journal_path().parent)

    def at_home(self):
        """Whose autostart entries lie in the test's folder."""
        me = pwd.getpwuid(os.geteuid())
        at_home = pwd.struct_passwd([*me[:5], str(self.folder / "home"), me[6]])
        patch = mock.patch("pwd.getpwnam", return_value=at_home)
        patch.start()
        self.addCleanup(patch.stop)
        return me.pw_name

    def entry(self, name="gull.desktop"):
        entry = self.folder / "home/.config/autostart" / name
        entry.parent.mkdir(parents=True, exist_ok=True)
        entry.write_text("[Desktop Entry]\nExec=gull\n")
        return entry

    def test_an_autostart_entry_off_and_on(self):
        entry, me = self.entry(), self.at_home()
        act = Act("disable-autostart", file=str(entry), user=me)
        carry_out(act, self.header, Root(Path("/")), self.journal)
        self.assertFalse(entry.exists())
        undo(self.journal, None, Root(Path("/")))
        self.assertEqual("[Desktop Entry]\nExec=gull\n", entry.read_text())

    def test_a_capture_names_no_other_file(self):
        entry, me = self.entry(), self.at_home()
        other = self.entry("../secret.desktop")
        link = entry.parent / "link.desktop"
        link.symlink_to(other)
        for file in (
            str(other),
            f"{entry.parent}/../secret.desktop",
            f"{entry.parent}//gull.desktop",
            str(self.entry("gull.txt")),
            "/etc/passwd",
            "gull.desktop",
            "",
            str(link),
            f"{entry.parent}/sub/gull.desktop",
        ):
            act = Act("disable-autostart", file=file, user=me)
            with self.subTest(file), self.assertRaises(Refused):
                carry_out(act, self.header, Root(Path("/")), self.journal)
        self.assertTrue(other.exists() and entry.exists() and link.is_symlink())

    def test_a_capture_names_no_other_unit(self):
        """Names of units come from a capture, and are checked against what is now."""
        bus = self.serve()
        for unit in (
            "-.slice",
            "--force.service",
            "tern",
            "tern.service; reboot",
            "../x.service",
            "tern.mount",
            "dbus.service",
            "user@1000.service",
            "systemd-logind.service",
            "display-manager.service",
            "init.scope",
            "",
        ):
            with self.subTest(unit), self.assertRaises(Refused):
                carry_out(Act("stop-unit", unit=unit), self.header, Root(Path("/")), self.journal)
        self.assertEqual([], self.asked(bus))
        self.assertEqual([], read_journal(self.journal))

    def test_a_capture_names_no_other_program_and_no_other_person(self):
        child = subprocess.Popen(["sleep", "60"])
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        start_clk = int(Path(f"/proc/{child.pid}/stat").read_text().rpartition(") ")[2].split()[19])
        bus, root, me = self.serve(), Root(Path("/")), os.geteuid()
        for verb, name, uid, said in (
            ("end", "miner", me, "is sleep now, not miner"),
            ("pause", "sleep", me + 1, "belongs to user number"),
            ("stop-unit", "sleep", me, "is in .* now, not in tern.service"),
        ):
            target = Target(child.pid, start_clk, name, uid)
            act = Act(verb, targets=[target], unit="tern.service")
            with self.subTest(verb), self.assertRaisesRegex(Refused, said):
                carry_out(act, self.header, root, self.journal)
        self.assertIsNone(child.poll())
        self.assertEqual([], self.asked(bus))
        self.assertEqual([], read_journal(self.journal))


class ByName(InFolder):
    """Steps are shown and asked for by name, against a culprit, a process or a finding."""

    def fix(self, *arguments, **options):
        done = run("fix", *arguments, folder=self.folder, **options)
        return " ".join((done.stdout + done.stderr).split())

    def test_a_step_is_its_name_or_its_number(self):
        listed = self.fix("show", self.sample)
        self.assertEqual(listed, self.fix(self.sample))
        self.assertEqual(listed, self.fix(self.sample, "--culprit", "1"))
        number = re.search(r"(\d+)\. pause: ", listed)[1]
        by_name = self.fix("show", self.sample, "pause")
        self.assertIn("risk: reversible", by_name)
        self.assertEqual(by_name, self.fix("show", self.sample, number))
        self.assertIn("From here it would be refused", self.fix("do", self.sample, "pause"))
        refused = self.fix("do", self.sample, "pause", "--yes", status=1)
        self.assertIn("model or a copy", refused)

    def test_the_steps_of_a_finding_are_reached_too(self):
        path = capture_model(load_scenario("slow-drip"), self.folder / "drip.gz", 20.0)
        self.assertIn("has 0 culprits", self.one_line("fix", "show", path, status=2))
        steps = self.fix("show", path, "--finding", "memory-leak")
        self.assertIn("restart-service: Restart the service chart-tiles.service", steps)
        said = self.one_line("fix", "show", path, "--finding", "leak", status=2)
        self.assertIn("it has memory-leak", said)

    def test_what_is_not_there_is_one_line(self):
        for arguments, said in (
            (("do", self.sample, "pausse"), "did you mean 'pause'"),
            (("do", self.sample, "99"), "steps, not 99"),
            (("show", self.sample, "--culprit", "1", "--pid", "3"), "give one of them"),
            (("do", self.sample), "STEP is missing"),
            (("undo", "x"), "takes the number of an act"),
        ):
            with self.subTest(said):
                self.assertIn(said, self.one_line("fix", *arguments, status=2))
