"""What a capture opens on this computer, held against the list of docs/sources.md."""

import itertools
import os
import re
import sys
from pathlib import Path

from dunmist.computer.read_paths import READ_PATHS, path_expression
from dunmist.series import load_series
from tests.program import InFolder, run

# Python calls it for each file that is opened
HOOK = """
import os, sys
told = os.open(os.environ["OPENED"], os.O_WRONLY | os.O_APPEND | os.O_CREAT)
def hear(event, about):
    if event in ("open", "os.listdir") and isinstance(about[0], (str, bytes)):
        os.write(told, os.path.normpath(os.path.abspath(os.fsencode(about[0]))) + b"\\0")
sys.addaudithook(hear)
"""
# what any Python program reads, and what is the user's own of this one
OF_PYTHON = re.compile(
    r"/(usr/)?lib/python\d.*|/etc/(localtime|timezone|ssl/.*)|/usr/share/zoneinfo/.*"
    r"|/dev/(null|urandom|tty)|/run/dunmist(/.*)?|.*/\.(config|local/state)/dunmist(/.*)?"
)
NEVER = re.compile(r"/etc/g?shadow-?|.*/\.ssh/.*|/proc/[^/]+/(environ|mem)|/dev/(sd|nvme|vd).*")


def expanded(path):
    """Return a pattern of paths without its braces: one path for each choice of words."""
    words = [part.split(",") for part in re.split(r"[{}]", path)]
    return map("".join, itertools.product(*words))


class ReadPaths(InFolder):
    def test_a_capture_opens_only_what_is_listed(self):
        (self.folder / "sitecustomize.py").write_text(HOOK)
        told = self.folder / "opened"
        run(
            *("capture", "-o", "x.gz", "--for", "4s"),
            folder=self.folder,
            environment={**os.environ, "PYTHONPATH": str(self.folder), "OPENED": str(told)},
            prepare=lambda: None,
        )
        # the root itself adds a slash
        opened = {
            os.fsdecode(path).replace("//", "/") for path in told.read_bytes().split(b"\0") if path
        }
        opened -= {
            path
            for path in opened
            if path.startswith((str(self.folder), sys.prefix, sys.base_prefix))
        }
        listed = [path for read in READ_PATHS for path in read.paths]
        # a folder is listed before its files are opened
        plain_paths = {path for each in listed for path in expanded(each)}
        parents = (str(parent) for path in plain_paths for parent in Path(path).parents)
        folders = {parent for parent in parents if not parent.endswith("**")}
        known = re.compile("|".join(map(path_expression, plain_paths | folders)))
        series = load_series(self.folder / "x.gz")
        # functions are looked up in the program files, which may have been replaced
        programs = {location.mapping for use in series.code.values() for location in use.locations}
        for process in series.processes.values():
            words = (process.facts.executable or "", *process.facts.command_line)
            programs |= {word.removesuffix(" (deleted)") for word in words}
        self.assertGreater(len(opened), 100)
        self.assertEqual([], sorted(path for path in opened if NEVER.fullmatch(path)))
        unknown = [
            path
            for path in sorted(opened)
            if not known.fullmatch(re.sub(r"^/proc/self/(?!mountinfo)", "/proc/1/", path))
            and not OF_PYTHON.fullmatch(path)
            and path.lstrip("/") not in {name.lstrip("/") for name in programs}
        ]
        self.assertEqual([], unknown)
