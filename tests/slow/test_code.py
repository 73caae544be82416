"""Which code programs run: against programs of known behaviour, and against hostile input."""

import ctypes
import ctypes.util
import gzip
import json
import os
import platform
import re
import shutil
import struct
import subprocess
import sys
import time
import tomllib
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace

from hypothesis import given, settings
from hypothesis import strategies as st

from dunmist.advice import code_kinds, kind_of_code
from dunmist.advice.parts import kind_of_part
from dunmist.computer import ParseError, code_events, find_mapping, parse_mappings, symbols
from dunmist.series import readable
from dunmist.simulation.code_samples import FUNCTION_BYTES, TEXT_AT, elf_file
from tests.program import PROJECT, InFolder, capture_model, load_scenario, run

ADVICE = PROJECT / "src" / "dunmist" / "advice"
IS_ROOT = os.geteuid() == 0
# of some 200 samples a share is within this of the truth but once in ten thousand
WITHIN = 0.14
LIBRARY = """
#include <stdint.h>
__attribute__((noinline)) uint64_t NAME(uint64_t rounds) {
    volatile uint64_t sum = 0;
    for (uint64_t i = 0; i < rounds; i++) sum += i * i;
    return sum;
}
"""
PROGRAM = """
#define _GNU_SOURCE
#include <pthread.h>
#include <stdint.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>
uint64_t work_auk(uint64_t), work_tern(uint64_t), work_skua(uint64_t);
static void part(void) { work_auk(600000); work_tern(300000); work_skua(100000); }
static void *gannet(void *nothing) {
    prctl(PR_SET_NAME, "gannet-3");
    for (;;) part();
    return nothing;
}
static void children(void) {
    for (;;) {
        if (!fork()) { for (int i = 0; i < 90; i++) part(); _exit(0); }
        wait(0);
    }
}
int main(int count, char **words) {
    pthread_t thread;
    if (words[1][0] == 'c') children();
    if (words[1][0] == 't') { pthread_create(&thread, 0, gannet, 0); pthread_join(thread, 0); }
    for (;;) part();
}
"""
# jumps to itself in memory that belongs to no file
GENERATED = """
import ctypes, mmap
code = mmap.mmap(-1, 4096, prot=mmap.PROT_READ | mmap.PROT_WRITE | mmap.PROT_EXEC)
code.write(b"\\xeb\\xfe")
ctypes.CFUNCTYPE(None)(ctypes.addressof(ctypes.c_char.from_buffer(code)))()
"""
SHARES = {"work_auk": 0.6, "work_tern": 0.3, "work_skua": 0.1}


@unittest.skipUnless(IS_ROOT and shutil.which("cc"), "needs the administrator and a compiler")
class KnownPrograms(InFolder):
    measures_computer = True

    def setUp(self):
        super().setUp()
        for name in SHARES:
            self.compile(LIBRARY, f"lib{name}.so", "-shared", "-fPIC", f"-DNAME={name}")
        libraries = [f"-l{name}" for name in SHARES]
        path = ["-L", self.folder, f"-Wl,-rpath,{self.folder}"]
        self.compile(PROGRAM, "murre", *path, *libraries, "-lpthread")

    def compile(self, source, output, *options):
        text = self.folder / "source.c"
        text.write_text(source)
        command = ["cc", "-O1", text, "-o", self.folder / output, *options]
        subprocess.run(command, check=True, cwd=self.folder)

    def start(self, name, *arguments):
        """Start a copy of the program under a name of its own."""
        path = self.folder / name
        shutil.copy(self.folder / "murre", path)
        child = subprocess.Popen([path, *arguments])
        self.addCleanup(child.wait)
        self.addCleanup(child.kill)
        return path

    def functions(self, name):
        """Return the shares of the functions of a program, and of all its samples."""
        rows = [row for row in self.code if row["application"] == name]
        return {row["function"]: row["share"] for row in rows if row["share"] >= 0.03}

    def test_three_libraries_threads_children_and_files_that_are_gone(self):
        self.start("alone", "l")
        self.start("threads", "t")
        self.start("parents", "c")
        stripped = self.start("stripped", "l")
        subprocess.run(["strip", "-s", self.folder / "murre"], check=False)
        stripped.unlink()  # its file is gone; its libraries are not
        script = self.folder / "made.py"
        script.write_text(GENERATED)
        made = subprocess.Popen([sys.executable, script])
        self.addCleanup(made.wait)
        self.addCleanup(made.kill)
        capture = self.folder / "known.jsonl.gz"
        run("capture", "-o", capture, "--for", "14s", folder=self.folder)
        shown = json.loads(run("view", "doing", capture, "--json", folder=self.folder).stdout)
        self.code = shown["code"]
        for name in ("alone", "threads", "parents", "stripped"):
            functions = self.functions(name)
            with self.subTest(name):
                for function, share in SHARES.items():
                    self.assertAlmostEqual(share, functions.get(function, 0.0), delta=WITHIN)
                self.assertGreater(sum(functions.get(function, 0.0) for function in SHARES), 0.9)
        rows = {(row["application"], row["what"]): row for row in shown["doing"]}
        self.assertEqual("generated-code", rows["made.py", "code"]["name"])
        self.assertGreater(rows["made.py", "code"]["share"], 0.9)
        self.assertEqual("gannet", rows["threads", "thread"]["name"])
        self.assertGreater(rows["threads", "thread"]["share"], 0.9)
        self.assertNotIn(("alone", "thread"), rows)

    def test_without_it_nothing_is_sampled(self):
        capture = self.folder / "plain.jsonl.gz"
        run("capture", "-o", capture, "--for", "1s", "--no-code", folder=self.folder)
        lines = gzip.decompress(capture.read_bytes()).decode()
        self.assertNotIn('"code":', lines)
        self.assertNotIn(code_events.CODE_SUBJECT, lines)


def refuse_sampling():
    """Have the kernel answer perf_event_open(2) with EPERM, as many distributions set it up."""
    number = code_events.SYSCALLS[platform.machine()]
    # seccomp(2) and classic BPF: load the number of the call, compare, return
    program = b"".join(
        struct.pack("=HBBI", *one)
        for one in ((0x20, 0, 0, 0), (0x15, 0, 1, number), (0x06, 0, 0, 0x00050001),
                    (0x06, 0, 0, 0x7FFF0000))
    )  # fmt: skip
    buffer = ctypes.create_string_buffer(program)
    library = ctypes.CDLL(None, use_errno=True)
    filters = struct.pack("=HxxxxxxQ", 4, ctypes.addressof(buffer))
    library.prctl(38, 1, 0, 0, 0)  # PR_SET_NO_NEW_PRIVS
    if library.prctl(22, 2, filters) != 0:  # PR_SET_SECCOMP, SECCOMP_MODE_FILTER
        raise OSError(ctypes.get_errno(), "no filter")


class Refused(InFolder):
    def test_it_is_a_blind_spot_with_its_remedy(self):
        capture = self.folder / "refused.jsonl.gz"
        options = ("capture", "-o", capture, "--for", "1s")
        run(*options, folder=self.folder, prepare=refuse_sampling)
        spots = self.triage(capture)["blind_spots"]
        spot = next(spot for spot in spots if spot["what"].startswith("which code busy programs"))
        self.assertIn("not allowed", spot["why"])


class ModelComputers(InFolder):
    def test_a_copy_opens_nothing_that_lies_outside_of_it(self):
        scenario = load_scenario("lone-thread")
        outside = self.folder / "outside.so"
        outside.write_bytes(elf_file(["harmonic_sum"]))
        capture = self.folder / "copy.jsonl.gz"
        capture_model(scenario, capture, duration_s=10.0)
        names = {row["function"] for row in self.code(capture)}
        self.assertEqual({"harmonic_sum", "cos"}, names)
        # the same computer without the library that its program maps
        capture_model(scenario, capture, 10.0, without=("usr/lib/skerrow/libtide*",))
        names = {row["function"] for row in self.code(capture)}
        self.assertEqual({None, "cos"}, names)

    def code(self, capture):
        shown = json.loads(run("view", "doing", capture, "--json", folder=self.folder).stdout)
        return [row for row in shown["code"] if row["application"] == "tide-harmonics"]


class Records(unittest.TestCase):
    @given(st.binary(max_size=200))
    def test_any_bytes_are_records_or_an_error(self, data):
        try:
            records, lost = code_events.parse_records(data)
        except ParseError:
            return
        self.assertGreaterEqual(lost, 0)
        self.assertLessEqual(len(records), len(data) // 8)

    def test_what_the_kernel_writes(self):
        sample = struct.pack("=IHHQII", 9, 2, 24, 0x7F00, 41, 42)
        in_kernel = struct.pack("=IHHQII", 9, 1, 24, 0xFF00, 41, 42)
        lost = struct.pack("=IHHQQ", 2, 0, 24, 1, 7)
        path = b"/usr/lib/librazorbill.so\0".ljust(32, b"\0")
        mapping = struct.pack(
            "=IHHIIQQQIIQQII", 10, 2, 104, 41, 41, 4096, 8192, 64, 8, 1, 5, 0, 5, 2
        )
        records, missed = code_events.parse_records(sample + in_kernel + lost + mapping + path)
        self.assertEqual(7, missed)
        self.assertEqual((41, 42, 0x7F00, False), records[0])
        self.assertTrue(records[1].is_kernel)
        self.assertEqual((41, 4096, 12288, 64, "/usr/lib/librazorbill.so", (8, 1, 5)), records[2])

    def test_a_length_that_lies_is_refused(self):
        for size in (0, 7, 25):
            with self.subTest(size), self.assertRaises(ParseError):
                code_events.parse_records(struct.pack("=IHHQII", 9, 2, size, 0, 1, 1))


class Mappings(unittest.TestCase):
    def test_the_executable_ones_are_found_by_address(self):
        mappings = parse_mappings(
            b"1000-2000 r--p 00000000 08:01 7          /usr/bin/fulmar\n"
            b"2000-3000 r-xp 00001000 08:01 7          /usr/bin/fulmar (deleted)\n"
            b"3000-4000 rwxp 00000000 00:00 0 \n"
            b"rubbish\n"
        )
        self.assertEqual(["/usr/bin/fulmar (deleted)", ""], [mapping.path for mapping in mappings])
        for address, start in ((0x1FFF, None), (0x2000, 0x2000), (0x3FFF, 0x3000), (0x4000, None)):
            found = find_mapping(mappings, address)
            with self.subTest(address):
                self.assertEqual(start, found.start if found else None)


class Symbols(unittest.TestCase):
    def setUp(self):
        holder = TemporaryDirectory(prefix="dunmist-test-")
        self.addCleanup(holder.cleanup)
        self.path = Path(holder.name) / "libpuffin.so"
        self.data = elf_file(["dive", "surface"])

    def names(self, data, *offsets, inode=0):
        self.path.write_bytes(data)
        return symbols.names_in_file([str(self.path)], inode, list(offsets))

    def test_the_function_around_an_offset(self):
        first, second = TEXT_AT + 1, TEXT_AT + FUNCTION_BYTES
        self.assertEqual(
            ["surface", "dive", None], self.names(self.data, second, first, TEXT_AT - 1)
        )
        # another file that has taken its place is not asked
        self.assertEqual([None], self.names(self.data, first, inode=1))

    @settings(deadline=None, max_examples=60)
    @given(st.data())
    def test_a_damaged_file_gives_names_or_nothing(self, draw):
        data = bytearray(self.data)
        for _ in range(draw.draw(st.integers(1, 8))):
            data[draw.draw(st.integers(0, len(data) - 1))] = draw.draw(st.integers(0, 255))
        cut = draw.draw(st.integers(0, len(data)))
        self.assertEqual(1, len(self.names(bytes(data[:cut]), TEXT_AT + 1)))

    def test_what_is_no_plain_file_is_not_opened(self):
        fifo = self.path.with_name("libfifo.so")
        os.mkfifo(fifo)
        began_s = time.monotonic()
        self.assertEqual([None], symbols.names_in_file([str(fifo), "/dev/null"], 0, [1]))
        self.assertLess(time.monotonic() - began_s, 5)

    def test_the_nearest_function_of_the_kernel_before_an_address(self):
        self.path.write_text("1000 t early\n3000 T late\n2000 t middle\n2800 d data\n")
        found = symbols.names_in_kernel(str(self.path), [0x900, 0x1500, 0x2900, 0x5000])
        self.assertEqual([None, "early", "middle", "late"], list(found.values()))

    def test_names_of_cplusplus_and_rust(self):
        for name, expected in (
            ("_ZN5gulls4soarEv", "gulls::soar"),
            ("_ZNK5gulls4nest3eggE", "gulls::nest::egg"),
            ("_ZN5terns4dive17h0123456789abcdefE", "terns::dive"),
            ("_ZN99", "_ZN99"),
            ("plain", "plain"),
        ):
            with self.subTest(name):
                self.assertEqual(expected, readable(name))


class Parts(unittest.TestCase):
    LINES = (
        ("razorbill --type=renderer --lang=en", "pages"),
        ("razorbill --type=renderer --extension-process", "extensions"),
        ("razorbill --type=gpu-process", "graphics"),
        ("razorbill --type=utility --utility-sub-type=network.mojom.NetworkService", "network"),
        ("guillemot -contentproc -childID 3 7 tab", "pages"),
        ("guillemot -contentproc 9 rdd", "video"),
        ("postgres: autovacuum launcher", "maintenance"),
        ("postgres: tides roosts [local] SELECT", "sessions"),
        ("nginx: worker process", "workers"),
        ("nginx: master process /usr/sbin/nginx", "masters"),
        ("plumage-catalogue --plates /srv/plumage", None),
    )

    def test_the_command_line_says_which_part_it_is(self):
        for line, kind in self.LINES:
            process = SimpleNamespace(facts=SimpleNamespace(command_line=line.split(" ")))
            with self.subTest(line):
                self.assertEqual(kind, kind_of_part(process))


class Knowledge(unittest.TestCase):
    def test_each_row_is_reached_and_each_step_has_its_kind(self):
        kinds = {kind.key for kind in code_kinds()}
        table = tomllib.loads((ADVICE / "code.toml").read_text())["kind"]
        rows = sum(
            len(row.get(part, {})) for row in table for part in ("files", "functions", "kernel")
        )
        self.assertGreaterEqual(rows, 120)
        for kind in code_kinds():
            for pattern in (kind.files, kind.functions, kind.kernel, kind.threads):
                re.compile(pattern)  # fails if a row is no pattern
        threads = tomllib.loads((ADVICE / "thread_names.toml").read_text())["thread"]
        self.assertLessEqual({row["kind"] for row in threads}, kinds)
        steps = tomllib.loads((ADVICE / "ladder.toml").read_text())["step"]
        wanted = {
            word.removeprefix("does-")
            for step in steps.values()
            for word in step.get("all", ())
            if word.startswith("does-")
        }
        self.assertLessEqual(wanted, kinds)
        self.assertGreaterEqual(len(wanted), 25)

    def test_code_is_told_by_function_file_or_neither(self):
        for mapping, function, expected in (
            ("/usr/lib/libz.so.1.2.13", None, "compression"),
            ("/usr/lib/libzoo.so.1", None, None),
            ("/usr/lib/libgulls.so", "deflate_slow", "compression"),
            ("/usr/bin/python3.11", "_PyEval_EvalFrameDefault", "scripts"),
            ("/usr/lib/libpython3.11.so.1.0", "gc_collect_main", "garbage-collection"),
            ("[kernel]", "shrink_lruvec", "reclaim"),
            ("[kernel]", "deflate_slow", None),
            ("[kernel]", None, None),
            ("[generated]", None, "generated-code"),
            ("[unknown]", None, None),
            ("/usr/lib/gcc/x86_64-linux-gnu/12/cc1", None, "compiling"),
            ("/usr/bin/cc1gulls", None, None),
        ):
            kind = kind_of_code(mapping, function)
            with self.subTest(mapping=mapping, function=function):
                self.assertEqual(expected, kind.key if kind else None)


if __name__ == "__main__":
    unittest.main()
