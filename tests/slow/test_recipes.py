"""The recipes of CONTRIBUTING.md lead to what they promise, and name every file that changes."""

import gzip
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import dunmist
from tests.program import PROJECT, InFolder
from tests.recipes import MOST_FILES, RECIPES, walk


class Recipes(InFolder):
    def run_copy(self, *arguments):
        done = subprocess.run(
            [sys.executable, "-m", "dunmist", *map(str, arguments)],
            text=True,
            cwd=self.folder,
            # the journal of acts has a verb that only the copy knows
            env={**os.environ, "XDG_STATE_HOME": str(self.folder / "state")},
            capture_output=True,
            check=False,
        )
        self.assertEqual(0, done.returncode, done.stderr)
        return done.stdout

    def test_all_of_them_walked(self):
        """A capture by the changed program has the new source, and its triage all that is new."""
        package = self.folder / "dunmist"
        shutil.copytree(
            Path(dunmist.__file__).parent, package, ignore=shutil.ignore_patterns("__pycache__")
        )
        for recipe in RECIPES.values():
            walk(package, recipe)
        self.run_copy("capture", "-o", "noisy.jsonl.gz", "--for", "1s", "--every", "0.5s")
        triage = json.loads(self.run_copy("triage", "noisy.jsonl.gz", "--json"))
        (state,) = (item for item in triage["resources"] if item["resource"] == "noise")
        self.assertGreaterEqual(state["used"], 0)
        (finding,) = (item for item in triage["findings"] if item["kind"] == "little-noise")
        self.assertIn("bits of noise", finding["evidence"][0]["text"])
        self.assertIn("Clap your hands.", [item["text"] for item in finding["steps"]])
        step = ("clap-hands", "--pid", os.getpid())
        done = self.run_copy("fix", "do", "noisy.jsonl.gz", *step, "--yes", "--no-measure")
        self.assertIn("clapped once", done)
        (cores, *_) = json.loads(
            self.run_copy("view", "cores", "noisy.jsonl.gz", "--json")
        ).values()
        self.assertTrue(0 <= cores[0]["idle_share"] <= 1)
        self.run_copy("capture", "--nest", "gannet", "-o", "far.jsonl.gz", "--for", "1s")
        with gzip.open(self.folder / "far.jsonl.gz") as lines:
            ticks = [line for line in map(json.loads, lines) if line["kind"] == "tick"]
        self.assertTrue(all(tick["noise_bits"] >= 0 for tick in ticks) and ticks)
        self.run_copy("report", "noisy.jsonl.gz", "-o", "noisy.list")
        self.assertIn("Verdict", (self.folder / "noisy.list").read_text())

    def test_each_names_the_files_that_it_changes(self):
        text = (PROJECT / "CONTRIBUTING.md").read_text()
        sections = dict(re.findall(r"^## (.+)\n((?:(?!## ).*\n)*)", text, re.M))
        for heading, recipe in RECIPES.items():
            self.assertLessEqual(len(recipe), MOST_FILES[heading], heading)
            for name in recipe:
                with self.subTest(heading, file=name):
                    folder = name.rpartition("/")[0]
                    told = sections[heading]
                    self.assertTrue(f"`{name}`" in told or f"`{folder}/`" in told, told)
