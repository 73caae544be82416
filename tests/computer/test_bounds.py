"""What no kernel gives is refused where it is read, and only what is new goes on."""

import gzip
import json
import unittest
from importlib import import_module
from unittest import mock

from dunmist.captures import CaptureReader
from dunmist.computer import ParseError, control_groups, memory, process_details, processes
from dunmist.computer import load as load_module
from dunmist.computer.parsing import COUNTER_MAX, parse_counter
from dunmist.errors import CaptureError
from dunmist.sampling.registry import Changes, Source
from tests.program import InFolder, run

reader_module = import_module("dunmist.captures.reader")
load_series_module = import_module("dunmist.series.load")

BEYOND = str(COUNTER_MAX + 1).encode()
STAT = (
    b"%s (auk) S %s 1 1 0 -1 4194560 0 0 0 0 1 2 0 0 20 %s %s 0 119 8 9 0 1 1 0 0 0 0 0 0 0 0 0 0 "
    b"17 %s 0 0 0 0 0\n"
)


class Refused(unittest.TestCase):
    def test_a_line_of_stat_holds_what_the_kernel_can_give(self):
        whole = (b"7", b"1", b"-5", b"3", b"2")
        result = processes.parse_process_stat(STAT % whole)
        self.assertEqual(
            (7, 1, -5, 3, 2),
            (result.pid, result.ppid, result.nice, result.threads, result.processor),
        )
        for place, value in (
            (0, b"-7"),
            (0, b"4194305"),
            (1, b"-1"),
            (1, b"99999999"),
            (2, b"20"),
            (2, b"-21"),
            (3, b"-1"),
            (3, b"4194305"),
            (4, b"8192"),
        ):
            with self.subTest(place=place, value=value), self.assertRaises(ParseError):
                processes.parse_process_stat(STAT % (*whole[:place], value, *whole[place + 1 :]))

    def test_no_counter_is_longer_than_63_bits(self):
        for what, parse, text in (
            ("sysfs", parse_counter, b"%s\n"),
            ("group", control_groups.parse_cpu_stat, b"usage_usec %s\n"),
            (
                "stalls",
                load_module.parse_pressure,
                b"some avg10=0.00 avg60=0.00 avg300=0.00 total=%s\n",
            ),
            ("paging", memory.parse_vmstat, b"pswpin %s\n"),
            ("bytes", processes.parse_io, b"read_bytes: %s\nwrite_bytes: 0\n"),
            ("delay", processes.parse_schedstat, b"%s 0 0\n"),
            ("limit", process_details.parse_descriptor_limit, b"Max open files  %s  1  files\n"),
        ):
            with self.subTest(what):
                parse(text % str(COUNTER_MAX).encode())
                with self.assertRaises(ParseError):
                    parse(text % BEYOND)

    def test_a_count_is_never_below_nought(self):
        self.assertEqual(12, parse_counter(b"12\n"))
        for data in (b"-1\n", b"\n", b"1 2\n", b"0x10\n"):
            with self.subTest(data), self.assertRaises(ParseError):
                parse_counter(data)


class Captures(InFolder):
    def test_a_capture_with_what_cannot_be_is_refused_with_its_line(self):
        lines = gzip.decompress(self.sample.read_bytes()).splitlines()
        number, tick = next(
            (index, json.loads(line))
            for index, line in enumerate(lines)
            if b'"kind":"tick"' in line
        )
        for what, change in (
            ("a negative count", lambda item: item["paging"].update(pswpin=-1)),
            ("beyond 63 bits", lambda entry: entry["memory"].update(MemTotal=2**63)),
            (
                "an identity without end",
                lambda answer: answer["processes"][0].__setitem__(0, 10**9),
            ),
            (
                "a nice value of nobody",
                lambda candidate: candidate["processes"][0].__setitem__(9, 77),
            ),
        ):
            with self.subTest(what):
                changed = json.loads(json.dumps(tick))
                change(changed)
                path = self.folder / "made-up.jsonl.gz"
                text = [*lines[:number], json.dumps(changed).encode(), *lines[number + 1 :]]
                path.write_bytes(gzip.compress(b"\n".join(text) + b"\n"))
                with CaptureReader(path) as reader, self.assertRaises(CaptureError):
                    list(reader.lines())
                said = run("triage", path, folder=self.folder, status=1).stderr
                self.assertEqual(1, said.count("\n"))
                self.assertIn(f"line {number + 1} is not as a capture has it", said)

    def test_what_is_nested_too_deep(self):
        lines = gzip.decompress(self.sample.read_bytes()).splitlines()
        deep = b'{"kind":"%s","x":' + b"[" * 100_000 + b"]" * 100_000 + b"}"
        for place, line, said in (
            (1, deep % b"tick", "line 2 is not as a capture has it"),
            (1, deep % b"event", "line 2 is not as a capture has it"),
            (0, deep % b"header", "no header in line 1"),
        ):
            path = self.folder / "deep.jsonl"
            path.write_bytes(b"\n".join([*lines[:place], line, *lines[place:]]) + b"\n")
            with self.subTest(place=place, line=line[:16]):
                self.assertIn(said, self.one_line("triage", path))

    def test_a_date_that_is_none(self):
        lines = gzip.decompress(self.sample.read_bytes()).splitlines()
        for started in ("[::]", "", "0001-01-01", "\n", "2031-13-01T00:00:00+00:00"):
            header = json.dumps({**json.loads(lines[0]), "started": started}).encode()
            path = self.folder / "undated.jsonl.gz"
            path.write_bytes(gzip.compress(b"\n".join([header, *lines[1:]]) + b"\n"))
            with self.subTest(started):
                said = self.one_line("triage", path)
                self.assertIn("line 1 has no date", said)

    def test_few_bytes_cannot_ask_for_all_memory(self):
        with (
            mock.patch.object(reader_module, "WHOLE_MAX_BYTES", 1 << 12),
            self.assertRaisesRegex(CaptureError, "unpacks to more than"),
            CaptureReader(self.sample) as reader,
        ):
            list(reader.lines())
        with (
            mock.patch.object(reader_module, "TICKS_MAX", 3),
            self.assertRaisesRegex(CaptureError, r"line \d+ is beyond 3 ticks"),
            CaptureReader(self.sample) as reader,
        ):
            list(reader.lines())
        with (
            mock.patch.object(load_series_module, "FIGURES_MAX", 11 * 3),
            self.assertRaisesRegex(CaptureError, r"has 11 ticks and \d+ applications"),
        ):
            load_series_module.load_series(self.sample)


class News(unittest.TestCase):
    def test_only_what_changed_goes_on(self):
        changes = Changes()
        words = Source(("tcp",), "tcp", lambda _: (), keeps="changes")
        rows = Source(("disks",), "disks", lambda _: (), keeps="changes", key=lambda name: name[0])
        for given, news in (
            ({"a": 1, "b": 2}, {"a": 1, "b": 2}),
            ({"a": 1, "b": 3}, {"b": 3}),
            ({"a": 1, "b": 3}, {}),
            ({"c": None}, {"c": None}),
            ({"c": None}, {}),
            ({"a": 2}, {"a": 2}),
        ):
            with self.subTest(given):
                self.assertEqual(news, changes.of(words, given))
        for given, news in (
            ([("sda", 1), ("sdb", 1)], [("sda", 1), ("sdb", 1)]),
            ([("sda", 1), ("sdb", 2)], [("sdb", 2)]),
            ([], []),
            ([("sda", 1)], []),
        ):
            with self.subTest(given):
                self.assertEqual(news, changes.of(rows, given))
