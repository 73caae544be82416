"""The commands of the tutorial and of the README run; those of the tutorial print what it shows."""

import re
import shlex

from dunmist.simulation import load_scenario
from tests.program import DOCS, InFolder, capture_model, run

README = DOCS.parent / "README.md"
# lines that need a real computer, a second one, an installation, or minutes
ELSEWHERE = ("--on ", "--via ", "dunmist watch", "dunmist triage\n", "dunmist fleet", "fix prove")
BLOCK = re.compile(r"^```\n(.*?)^```", re.S | re.M)


def commands(page):
    """Yield each command of a page with the lines that it shows of the output."""
    for block in BLOCK.findall((DOCS / page).read_text(encoding="utf-8")):
        for part in re.split(r"^\$ ", block, flags=re.M)[1:]:
            command, _, shown = part.partition("\n")
            yield command, [line for line in shown.splitlines() if line.strip() not in ("", "…")]


class Tutorial(InFolder):
    def test_each_command_runs_and_prints_what_the_page_shows(self):
        result = list(commands("tutorial.md"))
        self.assertGreater(len(result), 6)
        for command, shown in result:
            program, *arguments = shlex.split(command)
            self.assertEqual("dunmist", program)
            if "demo/capture-after.jsonl.gz" in arguments:
                capture_model(load_scenario("cliff-top-laptop"), self.folder / arguments[-1])
            with self.subTest(command):
                done = run(*arguments, folder=self.folder)
                said = " ".join((done.stdout + done.stderr).split())
                for line in shown:
                    self.assertIn(" ".join(line.split()), said)


class Readme(InFolder):
    def test_each_command_runs(self):
        lines = re.findall(r"^    (dunmist [^#\n]*)", README.read_text(encoding="utf-8"), re.M)
        self.assertGreater(len(lines), 20)
        for line in lines:
            arguments = shlex.split(line)[1:]
            if any(part in f"{line.strip()}\n" for part in ELSEWHERE):
                continue
            with self.subTest(line):
                if arguments[0] == "capture":
                    capture_model(load_scenario("errands"), self.folder / arguments[-1], 30)
                else:
                    # fails unless the status is 0
                    run(*arguments, folder=self.folder)
