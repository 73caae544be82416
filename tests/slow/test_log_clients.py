"""For whom a log service works: one that keeps a text log, flooded by one program of two."""

import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from dunmist.series import load_series
from tests.program import InFolder, run

KEEPS = """
import datetime, os, socket, sys
taken = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
taken.bind(sys.argv[1])
log = open(sys.argv[2], "a")
print(flush=True)
while True:
    words = taken.recv(1000).decode()
    # what a service does with each line: it sorts it by rules
    for number in range(200):
        words.startswith(str(number))
    time = datetime.datetime.now().strftime("%b %e %H:%M:%S")
    print(time, "skua-desk", words, file=log, flush=True)
"""
WRITES = """
import os, socket, sys, time
end = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
end.connect(sys.argv[1])
while True:
    end.send(b"counter[%d]: ledge 4: 17 gulls" % os.getpid())
    time.sleep(float(sys.argv[2]))
"""
LOGS = Path("/var/log")


@unittest.skipUnless(os.geteuid() == 0, "only the administrator keeps a log there")
class LogClients(InFolder):
    measures_computer = True

    def start(self, name, text, *words):
        file = self.folder / name
        file.write_text(text)
        started = subprocess.Popen(
            [sys.executable, file, self.folder / "socket", *map(str, words)],
            stdout=subprocess.PIPE,
            start_new_session=True,
        )
        self.addCleanup(started.stdout.close)
        self.addCleanup(started.wait)
        self.addCleanup(os.killpg, started.pid, 9)
        return started

    def test_who_floods_it_comes_before_it(self):
        holder = tempfile.TemporaryDirectory(dir=LOGS, prefix="dunmist-test-")
        self.addCleanup(holder.cleanup)
        self.start("keeper.py", KEEPS, Path(holder.name) / "log").stdout.readline()
        self.start("rare.py", WRITES, 0.1)
        self.start("flood.py", WRITES, 0)
        time.sleep(0.5)
        run("capture", "-o", "x.gz", "--for", "4s", folder=self.folder)
        series = load_series(self.folder / "x.gz")
        (end,) = (
            end
            for end in series.log_ends
            if series.processes[end.process].application.name == "keeper.py"
        )
        first = end.writers[0]
        # both call themselves the same, and the busier one's process stands for the name
        self.assertEqual(("counter", "flood.py"), (first.name, self.name_of(series, first)))
        self.assertGreater(first.lines, 0.9 * end.lines)

    def name_of(self, series, writer):
        return series.processes[writer.process].application.name


if __name__ == "__main__":
    unittest.main()
