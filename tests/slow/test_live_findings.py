"""Programs that misbehave for real on this computer, and what is said of each."""

import json
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.program import TESTS, InFolder, run

MISBEHAVING = TESTS / "faulty_programs.py"
PORT = "47853"


class LiveFindings(InFolder):
    measures_computer = True

    def start(self, name, *arguments):
        """Start a copy of the program under a name of its own."""
        if not (self.folder / name).exists():
            shutil.copy(MISBEHAVING, self.folder / name)
        return self.begin(sys.executable, name, *arguments)

    def begin(self, *command):
        child = subprocess.Popen([*map(str, command)], cwd=self.folder)
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        return child

    def test_each_is_found_and_named(self):
        holder = self.start("ledger_keeper.py", "lock", "ledger.lock")
        parent = self.start("left_chicks.py", "leave_children")
        stopped = self.start("still_tern.py", "idle")
        self.start("guano_heap.py", "leak")
        self.start("open_drawers.py", "open_files")
        self.start("west_door.py", "listen", "0.0.0.0", PORT)
        self.start("east_door.py", "listen", "127.0.0.1", PORT)
        odd = Path(tempfile.mkdtemp(dir="/dev/shm", prefix="dunmist-test-"))
        self.addCleanup(shutil.rmtree, odd)
        shutil.copy(shutil.which("sleep"), odd / "odd-tern")
        self.begin(odd / "odd-tern", "60")
        shutil.copy(shutil.which("sleep"), odd / "sshd")
        self.begin(odd / "sshd", "60")
        # PR_SET_NAME of prctl(2)
        task = self.begin(
            sys.executable,
            "-c",
            "import ctypes, time; ctypes.CDLL(None).prctl(15, b'kworker/u8:1'); time.sleep(60)",
        )
        time.sleep(2)
        for _ in range(3):
            self.start("ledger_reader.py", "lock", "ledger.lock")
        stopped.send_signal(signal.SIGSTOP)
        (odd / "odd-tern").unlink()
        time.sleep(2)

        path = self.folder / "now.jsonl.gz"
        run("capture", "-o", path, "--for", "6s", "--every", "0.5s", folder=self.folder)
        result = self.triage(path)
        said = {(item["kind"], item["subject"]): item["evidence"] for item in result["findings"]}
        for kind, subject, words in (
            ("memory-growing", "guano_heap.py", "grew by"),
            ("descriptor-leak", "open_drawers.py", "open each second"),
            ("lock-wait", "ledger_reader.py", f"ledger_keeper.py (process {holder.pid}) holds"),
            ("lock-wait", "ledger_reader.py", "3 of its processes"),
            (
                "defunct-pile",
                "left_chicks.py",
                f"60 of them are children of left_chicks.py (process {parent.pid})",
            ),
            ("port-conflict", f"port {PORT}", "east_door.py at 127.0.0.1"),
            ("stuck-process", "still_tern.py", f"process {stopped.pid} is stopped"),
            ("odd-location", "odd-tern", "/dev/shm"),
            ("deleted-executable", "odd-tern", "(deleted)"),
            ("lookalike-name", "sshd", f"runs the program {odd}/sshd"),
            ("lookalike-name", "kworker/u8:1", f"process {task.pid} calls itself kworker/u8:1"),
        ):
            with self.subTest(kind):
                self.assertIn((kind, subject), said)
                self.assertIn(words, " ".join(item["text"] for item in said[kind, subject]))
        known = run("view", "process", path, parent.pid, "--json", folder=self.folder).stdout
        self.assertIn("by the program", json.loads(known)["about"]["started"])
        self.assertNotIn("file locks", [item["what"] for item in result["blind_spots"]])
