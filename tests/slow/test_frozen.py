"""A control group that is frozen on this kernel is found, and its step thaws it."""

import json
import os
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.program import InFolder, run

# where version 2 may be mounted, on its own or together with version 1
PLACES = (Path("/sys/fs/cgroup"), Path("/sys/fs/cgroup/unified"))


def version_2():
    return next((place for place in PLACES if (place / "cgroup.controllers").exists()), None)


class Frozen(InFolder):
    def setUp(self):
        super().setUp()
        place = version_2()
        if os.geteuid() or place is None:
            self.skipTest("control groups of version 2 and their administrator are needed")
        self.group = place / f"dunmist-test-{os.getpid()}"
        try:
            self.group.mkdir()
        except OSError as error:
            self.skipTest(f"no group can be made: {error}")
        self.addCleanup(self.group.rmdir)
        self.addCleanup(self.wait_until, lambda: "populated 0" in self.events())

    def events(self):
        return (self.group / "cgroup.events").read_text()

    def wait_until(self, holds):
        end = time.monotonic() + 30
        while not holds() and time.monotonic() < end:
            time.sleep(0.05)

    def test_it_is_found_and_thawed(self):
        server = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(99)"])
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        (self.group / "cgroup.procs").write_text(str(server.pid))
        # the freezing is undone whatever happens
        self.addCleanup((self.group / "cgroup.freeze").write_text, "0")
        (self.group / "cgroup.freeze").write_text("1")
        self.wait_until(lambda: "frozen 1" in self.events())
        run("capture", "-o", "x.gz", "--for", "1s", folder=self.folder)
        triage = json.loads(run("triage", "x.gz", "--json", folder=self.folder).stdout)
        (found,) = (item for item in triage["findings"] if item["kind"] == "group-frozen")
        self.assertIn(self.group.name, found["text"])
        self.assertEqual(1, found["evidence"][0]["value"])
        (step,) = found["steps"]
        subprocess.run(["sh", "-c", step["command"]], check=True, timeout=10)
        self.wait_until(lambda: "frozen 0" in self.events())
        self.assertIn("frozen 0", self.events())


if __name__ == "__main__":
    unittest.main()
