"""What people ask at a desk is answered by one command, and soon."""

import os
import re
import shlex
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path

from dunmist.simulation import load_scenario
from tests.program import DATA, capture_model, run

QUESTIONS = tomllib.loads((DATA / "questions.toml").read_text(encoding="utf-8"))["question"]


class Questions(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        holder = tempfile.TemporaryDirectory(prefix="dunmist-test-")
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        for name in {question["patient"] for question in QUESTIONS if "patient" in question}:
            capture_model(load_scenario(name), cls.folder / f"{name}.gz")
        cls.open_file = cls.folder / "field-notes.txt"
        cls.open_file.write_text("gulls\n")
        reading = (
            f"f = open({str(cls.open_file)!r}); import time; print(flush=True); time.sleep(600)"
        )
        cls.child = subprocess.Popen([sys.executable, "-c", reading], stdout=subprocess.PIPE)
        cls.child.stdout.readline()
        cls.addClassCleanup(cls.child.stdout.close)
        cls.addClassCleanup(cls.child.wait)
        cls.addClassCleanup(cls.child.kill)

    def answer(self, question):
        stand_ins = {
            "FILE": str(self.folder / f"{question.get('patient')}.gz"),
            "OPEN": str(self.open_file),
            "PID": str(self.child.pid),
        }
        words = [stand_ins.get(word, word) for word in shlex.split(question["command"])]
        wide = {**os.environ, "COLUMNS": "110", "XDG_STATE_HOME": str(self.folder)}
        said = run(*words, folder=self.folder, environment=wide).stdout
        expected = question["answer"]
        for word in ("OPEN", "PID"):
            expected = expected.replace(word, re.escape(stand_ins[word]))
        return " ".join(said.split()), expected

    def test_each_is_answered_by_one_command(self):
        self.assertGreaterEqual(len(QUESTIONS), 60)
        for question in QUESTIONS:
            with self.subTest(question["asks"]):
                said, expected = self.answer(question)
                self.assertRegex(said, expected)
