"""An ordinary second user of this computer, made for the tests and removed after them."""

import os
import pwd
import shutil
import subprocess
import tempfile
import traceback
import unittest
from pathlib import Path

NAME = "dunmist-skua"


class Attacker:
    """The second user: ``run`` calls a function with their rights, ``home`` is their folder."""

    def __init__(self):
        if os.geteuid() != 0 or not shutil.which("useradd"):
            raise unittest.SkipTest("takes an administrator, who makes a second user")
        made = subprocess.run(
            ["useradd", "-M", "-N", "-s", "/bin/sh", NAME],
            check=False,
            capture_output=True,
            text=True,
        )
        try:
            self.user = pwd.getpwnam(NAME)
        except KeyError:
            raise unittest.SkipTest(f"no user can be made here: {made.stderr.strip()}") from None
        self.home = Path(tempfile.mkdtemp(prefix="dunmist-skua-"))
        os.chown(self.home, self.user.pw_uid, self.user.pw_gid)
        self.home.chmod(0o755)

    def remove(self):
        subprocess.run(["pkill", "-KILL", "-u", NAME], check=False, capture_output=True)
        subprocess.run(["userdel", NAME], check=False, capture_output=True)
        shutil.rmtree(self.home)

    def start(self, function):
        """Call a function in a process of the user's, and return its number."""
        child = os.fork()
        if child:
            return child
        try:
            os.setgroups([])
            os.setgid(self.user.pw_gid)
            os.setuid(self.user.pw_uid)
            os.chdir(self.home)
            function()
        except BaseException:  # noqa: BLE001 - the fork ends here, whatever it was
            traceback.print_exc()
            os._exit(1)
        os._exit(0)

    def run(self, function):
        """Call it and wait; raises AssertionError where it failed."""
        _, status = os.waitpid(self.start(function), 0)
        if status:
            raise AssertionError("the second user could not do it")

    def folder(self, name):
        """Return a new folder of the user's, which everybody can read."""
        path = self.home / name
        self.run(lambda: path.mkdir(mode=0o755))
        return path

    def write(self, path, text, mode=0o644):
        """Write a file as the user."""

        def write():
            path.write_text(text)
            path.chmod(mode)

        self.run(write)
        return path
