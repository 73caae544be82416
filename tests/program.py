"""Runs the built program in a folder of its own, and makes small captures to run it on."""

import atexit
import hashlib
import importlib.util
import json
import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import time
import unittest
import zlib
from pathlib import Path

import msgspec

from dunmist.jobs.patient import capture_patient
from dunmist.simulation import load_scenario
from tests.fork_server import ForkServer

TESTS = Path(__file__).parent
PROJECT = TESTS.parent
DATA, DOCS = TESTS / "data", PROJECT / "docs"
DUNMIST = str(Path(sysconfig.get_path("scripts")) / "dunmist")


FORK_SERVER = ForkServer()
atexit.register(FORK_SERVER.stop)


def frame_of(filled):
    """Return the rows of a table as pandas has them."""
    import pandas as pd

    return pd.DataFrame(filled.rows, columns=filled.table.names)


def run(*arguments, folder, status=0, data=None, environment=None, prepare=None):
    """Run the program and return it finished; its status must be as expected.

    With ``prepare``, which is called in the new process, it is the installed script itself.
    """
    arguments = [*map(str, arguments)]
    if prepare is None:
        result = FORK_SERVER.run(arguments, folder, environment or dict(os.environ), data, 120)
        done = subprocess.CompletedProcess([DUNMIST, *arguments], *result)
    else:
        done = subprocess.run(
            [DUNMIST, *arguments],
            check=False,
            cwd=folder,
            capture_output=True,
            text=True,
            input=data,
            env=environment,
            timeout=120,
            preexec_fn=prepare,
        )
    if done.returncode != status:
        raise AssertionError(f"status {done.returncode}, wanted {status}: {done.stderr[-2000:]}")
    if "Traceback" in done.stderr:
        raise AssertionError(done.stderr)
    return done


def capture_model(scenario, path, duration_s=10.0, every_s=1.0, without=()):
    """Capture a model computer into a file, in virtual time; some of its files may be missing.

    The same patient gives the same capture, so that all tests of a run share one.
    """
    scenario = msgspec.structs.replace(scenario, hidden=[*scenario.hidden, *without])
    if "DUNMIST_TESTS_CAPTURES" not in os.environ:
        return capture_patient(scenario, path, duration_s, every_s, force=True)
    about = msgspec.json.encode((scenario, duration_s, every_s, path.suffix))
    kept = Path(os.environ["DUNMIST_TESTS_CAPTURES"]) / hashlib.sha256(about).hexdigest()
    if not kept.exists():
        with tempfile.TemporaryDirectory(dir=kept.parent) as folder:
            made = Path(folder) / path.name
            capture_patient(scenario, made, duration_s, every_s)
            made.rename(kept)
    shutil.copyfile(kept, path)
    return path


def await_ticks(path, wanted, child, longest_s=60):
    """Wait until the capture that a child writes has so many ticks."""
    end = time.monotonic() + longest_s
    while time.monotonic() < end and child.poll() is None:
        time.sleep(0.1)
        if path.exists():
            written = zlib.decompressobj(wbits=31).decompress(path.read_bytes())
            if written.count(b'{"kind":"tick"') >= wanted:
                return
    said = f"{child.args} ended with {child.poll()}, after less than {wanted} ticks"
    raise AssertionError(said)


class InFolder(unittest.TestCase):
    """A test with a temporary folder; ``sample`` is a capture of the demo's patient in it."""

    def setUp(self):
        holder = tempfile.TemporaryDirectory(prefix="dunmist-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    @property
    def sample(self):
        path = self.folder / "sample.jsonl.gz"
        return path if path.exists() else capture_model(load_scenario("ringing-office"), path)

    def triage(self, path):
        return json.loads(run("triage", path, "--json", folder=self.folder).stdout)

    def one_line(self, *arguments, status=1, **options):
        """Run what must fail, and return its one line."""
        done = run(*arguments, folder=self.folder, status=status, **options)
        self.assertEqual(1, done.stderr.count("\n"), done.stderr)
        self.assertTrue(done.stderr.startswith("dunmist: "), done.stderr)
        self.assertEqual("", done.stdout)
        return done.stderr


BUSY = "import time\nend = time.monotonic() + {0}\nwhile time.monotonic() < end: pass\n"


def start_busy(case, name, seconds=60):
    """Start a child that keeps one processor busy and return it; it ends with the test."""
    script = case.folder / name
    script.write_text(BUSY.format(seconds))
    child = subprocess.Popen([sys.executable, str(script)])
    case.addCleanup(child.wait)
    case.addCleanup(child.kill)
    return child


def maker(name):
    """Return the module below docs/ that generates a page."""
    spec = importlib.util.spec_from_file_location(name, DOCS / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module
