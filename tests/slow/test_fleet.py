"""Many captures at once: the same answers as one by one, whatever dies meanwhile."""

import functools
import getpass
import http.server
import json
import multiprocessing
import os
import shutil
import signal
import socket
import threading
import time
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from types import SimpleNamespace
from typing import NamedTuple
from unittest import mock

import msgspec
import pyarrow.parquet
from benchmarks.drawn import random_scenario

from dunmist.fleet.capture_locations import _address, find
from dunmist.fleet.capture_record import record_of
from dunmist.fleet.engine import Engine, _Running, records
from dunmist.fleet.records import CaptureRecord, CaptureRow, ChangeRow, PackageRow
from dunmist.fleet.report import write_reports
from dunmist.fleet.summary import Summing
from dunmist.fleet.triage_run import triage_fleet
from dunmist.history import DAY_S, Event, Identity, Piece, open_history
from dunmist.jobs.judge import judge
from dunmist.jobs.model_months import Months, Rise
from dunmist.jobs.patient import capture_patient
from dunmist.reports import triage_json
from tests import own_sshd
from tests.program import InFolder, run

COUNT, FIRST_SEED = 60, 91_000


def captured(place):
    folder, number = place
    path = Path(folder) / f"desk-{number:02}.jsonl.gz"
    scenario = random_scenario(FIRST_SEED + number)
    machine = msgspec.structs.replace(scenario.machine, host=f"desk-{number:02}")
    named = msgspec.structs.replace(scenario, machine=machine)
    capture_patient(named, path, 4.0, force=True)
    return path


def deadly(flag, result):
    """Make a record, but for one capture whose worker dies the first time."""
    if result.address.endswith("desk-07.jsonl.gz") and not Path(flag).exists():
        Path(flag).touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return record_of(result)


def always_deadly(result):
    if result.address.endswith("desk-03.jsonl.gz"):
        os.kill(os.getpid(), signal.SIGKILL)
    return record_of(result)


def endless(result):
    if result.address.endswith("desk-02.jsonl.gz"):
        time.sleep(600)
    return record_of(result)


class _Future(NamedTuple):
    key: str


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


class Fleet(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        holder = TemporaryDirectory(prefix="dunmist-fleet-")
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        captures = cls.folder / "cliff"
        captures.mkdir()
        with multiprocessing.get_context("spawn").Pool() as pool:
            cls.paths = pool.map(captured, [(captures, number) for number in range(COUNT)])

    def test_the_same_as_one_by_one_though_a_worker_is_killed(self):
        result = list(find([str(self.folder / "cliff")]))
        self.assertEqual(COUNT, len(result))
        work = functools.partial(deadly, str(self.folder / "killed"))
        made = {record.capture.place: record for record in records(Engine(2), iter(result), work)}
        self.assertTrue((self.folder / "killed").exists())
        self.assertEqual({str(path) for path in self.paths}, set(made))
        for path in self.paths:
            with self.subTest(path.name):
                row = made[str(path)].capture
                self.assertIsNone(row.trouble)
                self.assertEqual(triage_json(judge(path).triage), row.triage_json)

    def test_what_kills_every_worker_costs_nothing_but_itself(self):
        result = list(find([str(self.folder / "cliff" / "desk-0*.jsonl.gz")]))
        made = list(records(Engine(2), iter(result), always_deadly))
        self.assertEqual(10, len(made))
        (lost,) = [item.capture for item in made if item.capture.trouble]
        self.assertIn("desk-03.jsonl.gz: the worker died with it", lost.trouble)

    def test_what_takes_too_long_costs_nothing_but_itself(self):
        result = list(find([str(self.folder / "cliff")]))[:8]
        with mock.patch.multiple("dunmist.fleet.engine", TASK_MOST_S=4.0, CHECK_S=0.5):
            made = {
                record.capture.key: record.capture.trouble
                for record in records(Engine(1), iter(result), endless)
            }
        lost = {name: trouble for name, trouble in made.items() if trouble}
        self.assertEqual(8, len(made))
        self.assertEqual(
            ["not judged within 4 s"], [trouble.rpartition(": ")[2] for trouble in lost.values()]
        )

    def test_it_goes_on_where_it_was_and_says_what_it_could_not_read(self):
        place, out = self.folder / "some", self.folder / "out"
        place.mkdir()
        for path in self.paths[:4]:
            shutil.copy(path, place)
        (place / "broken.jsonl.gz").write_bytes(self.paths[4].read_bytes()[:200])
        (place / "notes.txt").write_text("dear all")
        first = triage_fleet([str(place)], out, Engine(2))
        self.assertEqual((6, 0), (first.summary.captures, first.done_before))
        self.assertEqual(2, len(first.summary.unread))
        shutil.copy(self.paths[5], place / "desk-00.jsonl.gz")
        second = triage_fleet([str(place)], out, Engine(2))
        self.assertEqual(3, second.done_before)
        table = pyarrow.parquet.read_table(out / "captures.parquet").to_pylist()
        self.assertEqual(6, len(table))
        self.assertEqual(2, sum(row["trouble"] is not None for row in table))
        report = json.loads((out / "report.json").read_text())
        self.assertEqual(("dunmist-fleet", 4), (report["format"], report["computers"]))
        self.assertEqual([], list(out.glob(".*")))

    def test_a_place_on_another_file_system(self):
        handler = functools.partial(Quiet, directory=self.folder)
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        address = f"http://127.0.0.1:{server.server_port}/cliff/desk-1*.jsonl.gz"
        made = triage_fleet([address], self.folder / "web", Engine(2)).summary
        self.assertEqual((10, []), (made.captures, made.unread))


@unittest.skipUnless(own_sshd.SSHD, "there is no sshd here")
class RemoteTarget(InFolder):
    def test_a_place_on_another_computer(self):
        (self.folder / "cliff").mkdir()
        for number in range(2):
            captured((self.folder / "cliff", number))
        (self.folder / "cliff" / "torn.jsonl.gz").write_bytes(b"\x1f\x8b torn")
        server, port, keys = own_sshd.start(self)
        (self.folder / ".ssh").mkdir()
        shutil.copy(keys / "user", self.folder / ".ssh" / "id_ed25519")
        place = f"sftp://{getpass.getuser()}@127.0.0.1:{port}{self.folder}/cliff"
        ways = {**os.environ, "HOME": str(self.folder)}
        for _ in range(50):
            with socket.socket() as line:
                if line.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.1)
        run("fleet", place, "-o", "out", folder=self.folder, environment=ways)
        report = json.loads((self.folder / "out" / "report.json").read_text())
        self.assertEqual(
            (3, 2, 1), (report["captures"], report["computers"], len(report["unread"]))
        )
        server.terminate()
        server.wait()
        self.assertIn(str(port), self.one_line("fleet", place, "-o", "more", environment=ways))


class Together(unittest.TestCase):
    def record(self, number, level, version, site, changes=()):
        key = f"{number:032}"
        capture = CaptureRow(
            key,
            f"{site}/{number}.jsonl.gz",
            site,
            host=f"desk-{number}",
            started="2031-05-14T10:00:00+01:00",
            level=level,
            confidence=0.9,
        )
        return CaptureRecord(
            capture,
            packages=[
                PackageRow(key, "nestcam-index", version),
                PackageRow(key, "ring-recovery", "3.1-2"),
            ],
            changes=[ChangeRow(key, 1.9e9, *change) for change in changes],
        )

    def summary(self, ill_with, ill_without):
        summing = Summing()
        for number in range(60):
            has = number < 20
            ill = number in range(ill_with) or number in range(20, 20 + ill_without)
            site = ("cliff", "harbour", "tower")[number % 3]
            summing.add(
                self.record(
                    number, "strained" if ill else "calm", "3.2-1" if has else "3.1-2", site
                )
            )
        return summing.summary()

    def test_an_update_that_came_with_it_is_named_and_chance_is_not(self):
        result = self.summary(17, 3)
        self.assertEqual(["package nestcam-index 3.2-1"], [item.what for item in result.came_with])
        (entry,) = result.came_with
        self.assertEqual((17, 20, 3, 40), (*entry.of_with[:2], *entry.of_without[:2]))
        self.assertEqual([], self.summary(6, 9).came_with)
        low, high = result.levels[1].share[2:]
        self.assertTrue(0.2 < low < 1 / 3 < high < 0.5, (low, high))

    def test_what_was_updated_lately_is_named_though_it_runs_nowhere(self):
        summing, update = Summing(), ("upgraded", "cliff-fonts", "1.0", "1.1")
        for number in range(60):
            changes = [update] if number < 20 else []
            level = "strained" if number < 18 or number > 57 else "calm"
            summing.add(self.record(number, level, "3.1-2", "cliff", changes))
        named = [item.what for item in summing.summary().came_with]
        self.assertEqual(["package cliff-fonts 1.1 upgraded lately"], named)

    def test_a_computer_counts_once_by_its_newest(self):
        summing = Summing()
        summing.add(self.record(1, "choked", "3.1-2", "cliff"))
        summing.add(self.record(1, "calm", "3.1-2", "cliff"))
        result = summing.summary()
        self.assertEqual(
            (2, 1, ["calm"]),
            (result.captures, result.computers, [level.word for level in result.levels]),
        )


class Histories(InFolder):
    """Histories of eighteen computers: on six a service grows since the same update."""

    DAYS, UPDATED = 75, 45

    def history(self, number, *rises):
        months = Months(self.DAYS, 300 + number, rises=rises, updates=0.0)
        periods = list(months.periods((9, 14)))
        for period in periods:
            for each in period.applications.values():
                each.memory_s, each.memory_byte_s = 6 * each.memory_s, 6 * each.memory_byte_s
        update_s = float((months.began_day + self.UPDATED) * DAY_S)
        update = [Event(update_s, "change", "tide-gridder 2.3-1 to 2.4-1")] if rises else []
        with open_history(self.folder / f"desk-{number:02}.sqlite3", create=True) as history:
            piece = Piece("model", float(periods[0].began_s), periods[-1].began_s + 3600.0, periods)
            history.add(piece, Identity(f"desk-{number:02}", "auk", 8))
            history.add_events(update)

    def test_what_drifts_on_many_is_named_with_its_update_and_a_single_one_is_not(self):
        grows = Rise("memory", "tide-gridder", self.UPDATED, 4.0)
        for number in range(18):
            self.history(number, *([grows] if number < 6 else []))
        self.history(18, Rise("memory", "station-journal", self.UPDATED, 4.0))
        (self.folder / "torn.sqlite3").write_bytes(b"SQLite format 3\0" + bytes(200))
        done = run(
            "fleet", self.folder, "-o", self.folder / "out", "--workers", "1", folder=self.folder
        )
        told = json.loads((self.folder / "out/report.json").read_text())
        self.assertEqual((19, 0), (told["histories"], told["captures"]))
        (drift,) = told["drifts"]
        self.assertEqual("tide-gridder", drift[1])
        self.assertEqual([6, 19], drift[2][:2])
        self.assertEqual(["tide-gridder 2.3-1 to 2.4-1", 6], drift[4:6])
        self.assertIn("torn.sqlite3", done.stderr)
        page = (self.folder / "out/report.md").read_text()
        self.assertIn("tide-gridder 2.3-1 to 2.4-1 (on 6)", page)
        rows = pyarrow.parquet.read_table(self.folder / "out/drifts.parquet").to_pylist()
        self.assertLessEqual({"tide-gridder", "station-journal"}, {row["name"] for row in rows})


class Report(InFolder):
    """The three forms of the report say the same, and nothing that a capture holds acts in them."""

    HOSTILE = "<img src=x onerror=alert(1)> | x"

    def written(self):
        summing = Summing()
        levels = "choked", "calm", "calm"
        for number in range(3):
            key = f"{number:032}"
            row = CaptureRow(
                key,
                f"cliff/{number}.jsonl.gz",
                "cliff",
                host=f"desk-{number}",
                started=f"2031-05-1{number + 1}T10:00:00+01:00",
                level=levels[number],
                confidence=0.9,
                limiting="cpu" if not number else None,
                culprit=self.HOSTILE,
                headline="The processors limit it.",
                first_step="Ask whether it is needed.",
            )
            summing.add(CaptureRecord(row))
        torn = CaptureRow("f" * 32, "cliff/torn.gz", "cliff", trouble=f"torn.gz: {self.HOSTILE}")
        summing.add(CaptureRecord(torn))
        files = write_reports(summing.summary(), self.folder)
        return {file.suffix: file.read_text() for file in files}

    def test_counts_and_what_could_not_be_read(self):
        texts = self.written()
        whole = json.loads(texts[".json"])
        self.assertEqual((4, 3, 1), (whole["captures"], whole["computers"], len(whole["unread"])))
        counted = {word: share[0] for word, share in whole["levels"]}
        self.assertEqual({"choked": 1, "calm": 2}, {k: v for k, v in counted.items() if v})
        self.assertEqual(["desk-0"], [item[0] for item in whole["first"]])
        for ending in (".html", ".md"):
            with self.subTest(ending):
                self.assertIn("desk-0", texts[ending])
                self.assertNotIn("desk-1", texts[ending])
                self.assertIn("torn.gz", texts[ending])

    def test_what_a_capture_calls_things_does_nothing(self):
        texts = self.written()
        self.assertNotIn("<img", texts[".html"])
        self.assertNotIn("<img", texts[".md"].replace("\\<img", ""))
        self.assertIn("<img", json.loads(texts[".json"])["unread"][0])


class Addresses(unittest.TestCase):
    """By what any worker opens a file again."""

    def address(self, place, name, *, protocol, unstripped):
        system = SimpleNamespace(protocol=protocol, unstrip_protocol=lambda _: unstripped)
        return _address(place, system, name)

    def test_the_host_is_kept_where_a_path_does_not_have_it(self):
        for place, name, protocol, unstripped, wanted in (
            ("/srv", "/srv/a.jsonl.gz", ("file", "local"), "file:///srv/a", "/srv/a.jsonl.gz"),
            (
                "sftp://me@far:22/srv",
                "/srv/a.gz",
                ("sftp",),
                "sftp:///srv/a.gz",
                "sftp://me@far:22/srv/a.gz",
            ),
            (
                "s3://bucket/x/*.gz",
                "bucket/x/a.gz",
                ("s3",),
                "s3://bucket/x/a.gz",
                "s3://bucket/x/a.gz",
            ),
            (
                "http://far:8080/x/",
                "http://far:8080/x/a.gz",
                ("http",),
                "http://far:8080/x/a.gz",
                "http://far:8080/x/a.gz",
            ),
        ):
            with self.subTest(place):
                self.assertEqual(
                    wanted, self.address(place, name, protocol=protocol, unstripped=unstripped)
                )


class Running(unittest.TestCase):
    """A limit of time is for what runs: who waits its turn has not begun."""

    def too_long(self, waiting, processing, moments_s, threads=1):
        client = SimpleNamespace(ncores=lambda: {"w": threads}, processing=lambda: processing)
        with mock.patch("dunmist.fleet.engine.time.monotonic", side_effect=[0.0, *moments_s]):
            running = _Running(client)
            return [[item.key for item in running.too_long(waiting)] for _ in moments_s]

    def futures(self, *keys):
        return {_Future(key): None for key in keys}

    def test_only_the_first_of_a_worker_is_counted(self):
        waiting = self.futures("a", "b", "c")
        self.assertEqual([[], ["a"]], self.too_long(waiting, {"w": ["c", "b", "a"]}, [10.0, 320.0]))
        self.assertEqual(
            [[], ["a", "b"]],
            self.too_long(waiting, {"w": ["c", "b", "a"]}, [10.0, 320.0], threads=2),
        )

    def test_it_is_looked_at_every_few_seconds_only(self):
        self.assertEqual(
            [[], [], []], self.too_long(self.futures("a"), {"w": ["a"]}, [1.0, 2.0, 4.9])
        )

    def test_who_comes_next_begins_anew(self):
        client = SimpleNamespace(ncores=lambda: {"w": 1}, processing=lambda: given)
        given, waiting = {"w": ["a", "b"]}, self.futures("a", "b")
        clock = iter([0.0, 10.0, 290.0, 310.0, 580.0, 600.0])
        with mock.patch("dunmist.fleet.engine.time.monotonic", side_effect=lambda: next(clock)):
            running = _Running(client)
            self.assertEqual([], running.too_long(waiting))
            given, waiting = {"w": ["b"]}, self.futures("b")
            self.assertEqual([], running.too_long(waiting))
            # b has run for twenty seconds, though it has been there for three hundred
            self.assertEqual([], running.too_long(waiting))
            self.assertEqual([], running.too_long(waiting))
            self.assertEqual(["b"], [item.key for item in running.too_long(waiting)])


class Wrong(InFolder):
    def test_places_and_schedulers_that_are_none(self):
        self.assertIn("no such file or directory", self.one_line("fleet", "nowhere", "-o", "out"))
        (self.folder / "empty").mkdir()
        self.assertIn("no captures there", self.one_line("fleet", "empty", "-o", "out"))
        (self.folder / "x.pem").write_text("none")
        given = ("--tls-ca", "x.pem", "--tls-cert", "x.pem", "--tls-key", "x.pem")
        for scheduler, more, status, text in (
            ("tcp://127.0.0.1:1", (), 2, "over TLS only"),
            ("tcp://127.0.0.1:1", given, 2, "over TLS only"),
            ("tls://127.0.0.1:1", given[:4], 2, "over TLS only"),
            ("tls://127.0.0.1:1", given, 1, "no scheduler answers over TLS"),
            ("tls://127.0.0.1:1", (*given[:4], "--tls-key", "y"), 2, "y: not a file"),
        ):
            with self.subTest(scheduler, given=more):
                said = run(
                    "fleet",
                    self.sample,
                    "-o",
                    "out",
                    "--scheduler",
                    scheduler,
                    *more,
                    folder=self.folder,
                    status=status,
                ).stderr
                self.assertIn(text, said)
                self.assertEqual(1, said.count("\n"), said)
