"""The commands of the tutorial run in their order, and print what the page shows."""

import re
import shlex
from pathlib import Path

from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model, run

DOCS = Path(__file__).parent.parent / "docs"
BLOCK = re.compile(r"^```\n(.*?)^```", re.S | re.M)


def commands(page):
    """Yield each command of a page with the lines that it shows of the output."""
    for block in BLOCK.findall((DOCS / page).read_text(encoding="utf-8")):
        for part in re.split(r"^\$ ", block, flags=re.M)[1:]:
            command, _, shown = part.partition("\n")
            yield command, [line for line in shown.splitlines() if line.strip() not in ("", "…")]


class Tutorial(InFolder):
    def test_each_command_runs_and_prints_what_the_page_shows(self):
        found = list(commands("tutorial.md"))
        self.assertGreater(len(found), 6)
        for command, shown in found:
            program, *arguments = shlex.split(command)
            self.assertEqual("dunmist", program)
            if "demo/capture-after.jsonl.gz" in arguments:
                capture_model(load_scenario("cliff-top-laptop"), self.folder / arguments[-1])
            with self.subTest(command):
                done = run(*arguments, folder=self.folder)
                said = " ".join((done.stdout + done.stderr).split())
                for line in shown:
                    self.assertIn(" ".join(line.split()), said)
