"""For whom a terminal program works: one that shows what is printed into it, by one of two."""

import os
import subprocess
import sys

from dunmist.diagnosis.examination import Examination
from dunmist.diagnosis.local_clients import find_printers
from dunmist.series import load_series
from dunmist.thresholds import thresholds
from tests.program import InFolder, run

SHOWS = """
import os, pty, subprocess, sys
ours, theirs = pty.openpty()
started = [subprocess.Popen([sys.executable, name], stdout=theirs) for name in sys.argv[1:]]
print(flush=True)
while True:
    # what a window does with each line
    os.read(ours, 4096).decode().splitlines()
"""
PRINTS = "while True: print('ledge 4: 17 gulls')"
RESTS = "import time\nwhile True: print('no gulls', flush=True); time.sleep(0.2)"


class Terminals(InFolder):
    measures_computer = True

    def test_who_prints_into_it_is_known(self):
        for name, text in (("window.py", SHOWS), ("flood.py", PRINTS), ("rare.py", RESTS)):
            (self.folder / name).write_text(text)
        window = subprocess.Popen(
            [sys.executable, "window.py", "flood.py", "rare.py"],
            cwd=self.folder,
            stdout=subprocess.PIPE,
            start_new_session=True,
        )
        self.addCleanup(window.stdout.close)
        self.addCleanup(window.wait)
        self.addCleanup(os.killpg, window.pid, 9)
        window.stdout.readline()
        run("capture", "-o", "x.gz", "--for", "4s", folder=self.folder)
        series = load_series(self.folder / "x.gz")
        (shown,) = (
            shown for shown in series.terminals if series.processes[shown.process].pid == window.pid
        )
        names = [series.processes[each.process].application.name for each in shown.printers]
        self.assertEqual(["flood.py", "rare.py"], names)
        (found,) = find_printers(Examination(series, thresholds())).values()
        self.assertEqual(["flood.py"], list(found))
