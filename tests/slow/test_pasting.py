"""Commands that are shown, pasted into a shell whose programs write down what they are given."""

import os
import re
import shutil
import subprocess
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from dunmist.advice.ladder_steps import Acting, filled_steps_of
from dunmist.advice.template_values import finding_filling
from dunmist.advice.wording import ladder
from dunmist.diagnosis import Finding
from dunmist.jobs.judge import judge
from dunmist.simulation import load_scenario, scenario_names
from tests.handmade import SimpleNamespace
from tests.program import capture_model

PROGRAMS = (
    "kill",
    "renice",
    "ionice",
    "systemctl",
    "journalctl",
    "du",
    "sort",
    "tail",
    "ps",
    "grep",
    "mv",
    "cp",
    "rm",
    "mkdir",
    "dmsetup",
    "smartctl",
    "findmnt",
    "umount",
    "timedatectl",
    "ls",
    "apt-get",
    "dnf",
    "reboot",
    "lsblk",
    "dmesg",
    "loginctl",
    "ss",
    "ip",
    "lsof",
    "last",
    "sensors",
    "touch",
    "id",
    "cat",
    "dunmist",
)
# name and words, each ended by a zero byte, in a file of its own: those of a pipe run at once
STAND_IN = """#!/bin/sh
printf '%s\\0' "${0##*/}" "$@" > "$PASTED/$$"
"""
PARTS = (
    "-rf",
    "--forged",
    "$(touch x)",
    "`touch x`",
    ";touch x;",
    "|touch x",
    "&& touch x",
    "a b",
    "a\nb",
    "'",
    '"',
    "''\"",
    "\\",
    "*",
    "?",
    "~",
    "#",
    "!!",
    "${IFS}x",
    "%s",
    "é",
    "\u202e",
)
HOSTILE = sorted({part + tail for part in PARTS for tail in ("", ".service", "'\";touch x")})
QUIET = re.compile(r"\{(unit|subject_quoted|timer)\}")


class Filling(dict):
    """What the steps of findings are filled with; the rest of the words are of no account here."""

    def __missing__(self, name):
        return "1"


class Pasting(unittest.TestCase):
    def setUp(self):
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        (self.folder / "bin").mkdir()
        for name in PROGRAMS:
            file = self.folder / "bin" / name
            file.write_text(STAND_IN)
            file.chmod(0o755)
        self.written = self.folder / "pasted"

    def pasted(self, *commands):
        """Return what programs were called with, by a shell that is handed these lines."""
        shutil.rmtree(self.written, ignore_errors=True)
        self.written.mkdir()
        home = self.folder / "home"
        home.mkdir(exist_ok=True)
        # kill is the shell's own word for what must not happen here
        lines = "\n".join(["enable -n kill", *commands]) + "\n"
        # what a step writes to is this computer's, and the shell does that itself
        (home / "etc" / "systemd" / "system").mkdir(parents=True, exist_ok=True)
        lines = lines.replace("> /etc/", f"> {home}/etc/")
        done = subprocess.run(
            ["bash", "--norc", "-s"],
            input=lines,
            text=True,
            capture_output=True,
            cwd=home,
            env={
                "PATH": f"{self.folder}/bin:{os.defpath}",
                "HOME": str(home),
                "PASTED": str(self.written),
            },
            timeout=60,
            check=False,
        )
        self.assertNotIn("syntax error", done.stderr)
        self.assertNotIn("command not found", done.stderr)
        self.assertFalse((home / "x").exists(), commands)
        return [call.read_text().split("\0")[:-1] for call in self.written.iterdir()]

    def test_a_hostile_name_is_one_operand_and_nothing_else(self):
        steps = {name for names in ladder()["finding"].values() for name in names}
        wanted = [
            name
            for name in sorted(steps)
            if QUIET.search(ladder()["step"][name].get("command", ""))
        ]
        self.assertGreater(len(HOSTILE), 50)
        diagnosis = SimpleNamespace(cause=None, external_cause=None, limiting=None, also=None)
        holding = frozenset({"unit", "service", "running", "root-full"})
        series = SimpleNamespace(
            header=SimpleNamespace(inventory=SimpleNamespace(missing_drivers=[], disks=[])),
            surveyed=SimpleNamespace(last=None),
        )
        for hostile in HOSTILE:
            finding = Finding("storage-full", "concern", hostile, [])
            filled_steps = filled_steps_of(
                wanted, holding, Filling(finding_filling(finding, diagnosis, series)), Acting()
            )
            texts = [
                text for filled in filled_steps for text in (filled.step.command, filled.step.undo)
            ]
            # what undoes a step may be plain words as well
            commands = [text for text in texts if text and text.split()[0] in PROGRAMS]
            said = self.pasted(*commands)
            calls = [call for call in said if call[0] not in ("sort", "tail")]
            with self.subTest(hostile):
                self.assertGreater(len(calls), 3)
                for call in calls:
                    self.assertTrue(any(hostile in word for word in call[1:]), call)
                    # what begins with a dash stands behind the end of the options
                    bare = [place for place, word in enumerate(call) if word == hostile]
                    for place in bare if hostile.startswith("-") else ():
                        self.assertIn("--", call[1:place], call)

    def test_what_the_triage_of_every_patient_shows_can_be_pasted(self):
        """Each command is one line, and each of its programs is called with whole words."""
        shown = {}
        for name in scenario_names():
            path = self.folder / "patient.jsonl.gz"
            triage = judge(capture_model(load_scenario(name), path, 30.0)).triage
            for about in (*triage.culprits, *triage.findings):
                for step in about.steps:
                    if step.command:
                        shown[step.command] = step.action
        self.assertGreater(len(shown), 60)
        for command, action in shown.items():
            with self.subTest(action):
                self.assertNotIn("\n", command)
        said = self.pasted(*shown)
        self.assertGreaterEqual({call[0] for call in said}, {"kill", "renice", "systemctl", "du"})
