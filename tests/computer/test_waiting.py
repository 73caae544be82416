"""What a waiting process has called, and deleted files that still take room: on this kernel."""

import os
import re
import subprocess
import sys
import time
import tomllib
import unittest
from importlib.resources import files
from pathlib import Path
from tempfile import NamedTemporaryFile

from dunmist.advice.waits import meaning_of_wait
from dunmist.computer import FileSystem, Root, read_deleted_files, read_rollup, read_system_call
from dunmist.computer.parsing import ParseError
from dunmist.computer.system_calls import CALLS, parse_stack, parse_system_call, read_stack
from tests.program import InFolder

HEADERS = (
    Path("/usr/include/x86_64-linux-gnu/asm/unistd_64.h"),
    Path("/usr/include/asm-generic/unistd.h"),
)
# what the kernel's headers call them
LONG = {"pread": "pread64", "pwrite": "pwrite64", "umount": "umount2", "getdents": "getdents64"}
NUMBER = re.compile(r"#define __NR(?:3264)?_(\w+)\s+(\d+)")
HOLD = """
import os, sys
file = open(sys.argv[1], "wb")
file.write(bytes(int(sys.argv[2]) << 20))
file.flush()
os.unlink(sys.argv[1])
print("ready", flush=True)
sys.stdin.read()
"""


class Calls(unittest.TestCase):
    def test_numbers_are_those_of_the_kernels_headers(self):
        for index, (column, header) in enumerate(zip(("x86_64", "generic"), HEADERS, strict=True)):
            if not header.exists():
                self.skipTest(f"{header} is not there")
            known = {}
            for name, number in NUMBER.findall(header.read_text()):
                known.setdefault(name, int(number))
            for call in CALLS:
                name = LONG.get(call.name, call.name)
                number = known.get(name, known.get("fstatat") if "fstatat" in name else None)
                with self.subTest(call.name, column=column):
                    self.assertEqual(number, call[1 + index])

    def test_forms(self):
        whole = b"74 0x3 0x0 0x0 0x0 0x0 0x0 0x7ffd00000000 0x7f0000000000\n"
        self.assertEqual((74, 3), parse_system_call(whole))
        self.assertIsNone(parse_system_call(b"running\n"))
        self.assertIsNone(parse_system_call(b"-1 0x7ffd00000000 0x7f0000000000\n"))
        # a program of 32 bits has other numbers
        self.assertIsNone(parse_system_call(whole.replace(b"0x7ffd00000000", b"0xffd00000")))
        for broken in (b"", b"x", b"74", b"74 0x3 0x0", b"74 q 0 0 0 0 0 0 0"):
            with self.subTest(broken), self.assertRaises(ParseError):
                parse_system_call(broken)

    def test_a_program_that_reads_from_a_pipe(self):
        child = subprocess.Popen(
            [sys.executable, "-c", "import sys; print(flush=True); sys.stdin.read()"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        self.addCleanup(child.communicate)
        child.stdout.readline()
        root = Root(Path("/"))
        told, end = None, time.monotonic() + 60
        # it may not have come to its reading yet
        while told is None and not root.unread and time.monotonic() < end:
            time.sleep(0.05)
            told = read_system_call(root, str(child.pid), os.uname().machine)
        if root.unread:
            self.skipTest("the kernel does not let us see it")
        self.assertEqual(("read", "pipe"), (told[0], told[1].partition(":")[0]))


class Deleted(InFolder):
    def hold(self, size_mib):
        path = self.folder / f"tape-{size_mib}"
        child = subprocess.Popen(
            [sys.executable, "-c", HOLD, path, str(size_mib)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        self.addCleanup(child.communicate)
        child.stdout.readline()
        return child.pid, str(path)

    def test_the_holder_of_the_room_is_found(self):
        (large, path), (small, _) = self.hold(12), self.hold(1)
        narrow = FileSystem(
            "/", "ext4", "/dev/sda1", False, size_bytes=10**12, available_bytes=10**9
        )
        asked = [(7, large), (8, small)]
        (found,) = read_deleted_files(Root(Path("/")), asked, [narrow])
        self.assertEqual((7, path, 12 << 20, "/"), tuple(getattr(found, name) for name in FIELDS))
        wide = FileSystem(
            "/", "ext4", "/dev/sda1", False, size_bytes=10**12, available_bytes=10**11 * 5
        )
        self.assertEqual([], read_deleted_files(Root(Path("/")), asked, [wide]))
        distant = FileSystem(
            str(self.folder), "nfs4", "far:/", False, size_bytes=10**12, available_bytes=10**9
        )
        self.assertEqual([], read_deleted_files(Root(Path("/")), asked, [narrow, distant]))


FIELDS = ("process", "path", "size_bytes", "point")


class Stacks(unittest.TestCase):
    def test_the_first_function_that_says_what_is_waited_for(self):
        for text, expected in (
            (
                b"[<0>] io_schedule+0x46/0x80\n[<0>] folio_wait_bit_common+0x10/0x20\n"
                b"[<0>] jbd2_log_wait_commit+0x9c/0x130 [jbd2]\n[<0>] do_syscall_64+0x5d/0xc0\n",
                "jbd2_log_wait_commit",
            ),
            (b"[<ffffffff81234567>] rpc_wait_bit_killable+0x1/0x2\n", "rpc_wait_bit_killable"),
            (b"[<0>] do_syscall_64+0x5d/0xc0\n[<0>] 0xffffffffffffffff\n", None),
            (b"", None),
        ):
            with self.subTest(text):
                self.assertEqual(expected, parse_stack(text))
        with self.assertRaises(ParseError):
            parse_stack(b"a tern\n")

    def test_what_functions_mean_and_that_no_row_hides_another(self):
        self.assertIn("journal", meaning_of_wait("jbd2_log_wait_commit"))
        self.assertIn("file server", meaning_of_wait("rpc_wait_bit_killable"))
        self.assertIsNone(meaning_of_wait("tern_wait"))
        self.assertIsNone(meaning_of_wait(None))
        rows = tomllib.loads((files("dunmist.advice") / "waits.toml").read_text())["wait"]
        for row in rows:
            for name in row["functions"]:
                with self.subTest(name):
                    self.assertEqual(row["means"], meaning_of_wait(name))

    @unittest.skipUnless(os.geteuid() == 0, "needs the administrator")
    def test_of_this_kernel(self):
        # who reads it is in the function that writes it down
        self.assertEqual("proc_pid_stack", read_stack(Root(Path("/")), "self"))


class KindsOfMemory(unittest.TestCase):
    """A program that holds known amounts of data, of a file, and of memory shared by name."""

    HOLDS = """
import mmap, os, sys, tempfile
data = bytearray(os.urandom(64 << 20))
named = os.memfd_create("named")
os.ftruncate(named, 16 << 20)
shared = mmap.mmap(named, 16 << 20)
shared[:] = bytes(1) * (16 << 20)
file = mmap.mmap(os.open(sys.argv[1], os.O_RDONLY), 32 << 20, prot=mmap.PROT_READ)
sum(file[place] for place in range(0, len(file), 4096))
print(flush=True)
sys.stdin.read()
"""

    def test_each_kind_is_as_large_as_the_program_made_it(self):
        # on the disk: a file of tmpfs is memory shared by name
        with NamedTemporaryFile(dir=Path(__file__).parent) as file:
            file.write(os.urandom(32 << 20))
            file.flush()
            child = subprocess.Popen(
                [sys.executable, "-c", self.HOLDS, file.name],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
            )
            self.addCleanup(child.wait)
            self.addCleanup(child.stdin.close)
            self.addCleanup(child.stdout.close)
            child.stdout.readline()
            rollup = read_rollup(Root(Path("/")), str(child.pid), 1)
        # the interpreter itself has some MiB of data and files
        for kib, mib in ((rollup.data_kib, 64), (rollup.files_kib, 32), (rollup.shared_kib, 16)):
            self.assertGreaterEqual(kib, mib * 1024)
            self.assertLess(kib, (mib + 12) * 1024)


if __name__ == "__main__":
    unittest.main()
