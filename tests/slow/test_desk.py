"""The desk: its pages against ``view``, its keys, and a whole visit through a real terminal."""

import fcntl
import json
import logging
import os
import pty
import re
import signal
import struct
import subprocess
import sys
import termios
import time
import unittest
from contextlib import suppress
from pathlib import Path
from types import SimpleNamespace

from textual.command import CommandPalette
from textual.widgets import DataTable, OptionList, Static, Tabs

from dunmist.desk import PAGES
from dunmist.desk.app import DeskApp
from dunmist.desk.open_one import OpenOne, Question, Subject
from dunmist.desk.page_rows import (
    Arrangement,
    arranged,
    cells_of,
    heading_of,
    owner_of,
    shown_columns,
)
from dunmist.desk.pages import Pages
from dunmist.desk.recorder_visit import RecorderVisit
from dunmist.desk.short_screens import Help, Notice
from dunmist.desk.trial import begin_trial, trial_lines
from dunmist.desk.visit import Visit, VisitOptions
from dunmist.jobs.desk_judgement import desk_judgement
from dunmist.recorder import LiveApplication
from dunmist.simulation import load_scenario
from dunmist.thresholds import thresholds
from tests.program import DUNMIST, InFolder, await_ticks, capture_model, run, start_busy

STYLE = re.compile(r"\x1b(?:\[[0-9;?<>=]*[ -/]*[@-~]|[()][0-9A-Z]|[=>])")


class PageTables(InFolder):
    def test_each_page_says_what_view_says_of_the_same_capture(self):
        path = self.sample
        judgement = desk_judgement(path, 0.0)
        triage = self.triage(path)
        self.assertEqual(triage["verdict"]["headline"], judgement.headline)
        names = [culprit["name"] for culprit in triage["culprits"]]
        self.assertEqual(names, [suspect.name for suspect in judgement.suspects])
        kinds = [finding.kind for finding in judgement.findings]
        self.assertEqual([finding["kind"] for finding in triage["findings"]], kinds)
        for page in PAGES[2:]:
            form = {"each": ["--each"], "tree": ["--tree"]}.get(page.form, [])
            told = {}
            for topic in page.topics:
                done = run("view", topic, path, *form, "--json", folder=self.folder)
                told |= json.loads(done.stdout)
            for table in judgement.pages[page.title]:
                with self.subTest(page.title, table=table.name):
                    rows = told[table.name.replace(" ", "_")]
                    self.assertEqual(len(rows), len(table.rows))
                    for column, about in enumerate(table.columns):
                        for row, shown in zip(rows, table.rows, strict=True):
                            wanted = row[about.name]
                            if isinstance(wanted, int | float) and not isinstance(wanted, bool):
                                self.assertAlmostEqual(wanted, shown.values[column], places=6)

    def test_rows_are_sorted_filtered_and_told_apart(self):
        table = desk_judgement(self.sample, 0.0).pages["processes"][0]
        keys = [row.key for row in table.rows]
        self.assertEqual(len(keys), len(set(keys)))
        names = [column.name for column in table.columns]
        place = names.index("private_bytes")
        ordered = [row.values[place] for row in arranged(table, Arrangement("private_bytes"))]
        self.assertEqual(sorted(ordered, reverse=True), ordered)
        turned = arranged(table, Arrangement("private_bytes", ascending=True))
        self.assertEqual(ordered[::-1], [row.values[place] for row in turned])
        left = arranged(table, Arrangement(words="NESTCAM isbister"))
        self.assertTrue(left)
        self.assertTrue(all("nestcam" in " ".join(row.texts) for row in left))
        two = frozenset({"pid", "user"})
        self.assertEqual(2, len(shown_columns(table, Arrangement(columns=two))))
        owner = owner_of(table, table.rows[0])
        mine = arranged(table, Arrangement(owner=owner))
        user = names.index("user")
        self.assertEqual([row for row in table.rows if row.texts[user] == owner], mine)
        exact = cells_of(table, table.rows[0], Arrangement(is_exact=True))
        self.assertEqual(table.rows[0].values[place], float(exact[place]))
        self.assertIn("(bytes)", heading_of(table.columns[place], Arrangement(is_exact=True)))

    def test_an_application_unfolds_into_its_processes(self):
        pages = desk_judgement(self.sample, 0.0).pages
        table, processes = pages["applications"][0], pages["processes"][0]
        names = [column.name for column in table.columns]
        cores = names.index("cores_mean")
        self.assertEqual(len(processes.rows), sum(len(row.parts) for row in table.rows))
        whole = max(table.rows, key=lambda row: len(row.parts))
        self.assertGreater(len(whole.parts), 1)
        rows = arranged(table, Arrangement("cores_mean", unfolded=frozenset({whole.key})))
        at = [row.key for row in rows].index(whole.key)
        parts = rows[at + 1 : at + 1 + len(whole.parts)]
        self.assertEqual({part.pid for part in whole.parts}, {part.pid for part in parts})
        self.assertEqual(len(table.rows) + len(parts), len(rows))
        figures = [part.values[cores] for part in parts]
        self.assertEqual(sorted(figures, reverse=True), figures)
        self.assertAlmostEqual(whole.values[cores], sum(figures), delta=0.05)

    def test_what_judges_is_a_process_that_ends_and_says_why_it_could_not(self):
        for path, said in (("nowhere.gz", "No such file"), (__file__, "capture")):
            options = VisitOptions(self.folder, file=self.folder / path)
            with Visit(options) as visit:
                answer, error = visit.judge(0.0).communicate()
                self.assertEqual(b"", answer)
                self.assertIn(said, error.decode())


class TryIt(unittest.TestCase):
    """What rose since a mark, on applications made by hand."""

    def now(self, **cores):
        made = {}
        for name, (history, memory_mib) in cores.items():
            app = LiveApplication(name)
            app.history.extend(history)
            app.cores, app.memory_bytes = history[-1], memory_mib << 20
            made[len(made)] = app
        return SimpleNamespace(applications=made)

    def test_what_rose_and_whether_it_settled(self):
        trial = begin_trial(self.now(auk=([0.1] * 5, 50), tern=([1.0] * 5, 50)), 5, 10.0)
        later = self.now(
            auk=([0.1] * 5 + [0.9] * 4 + [0.1] * 6, 50),
            tern=([1.0] * 15, 50),
            gull=([2.0] * 10, 400),
        )
        lines = trial_lines(trial, later, 15, 20.0)
        self.assertEqual(
            [
                "gull (new): +2.00 cores at most, still 2.00 now; +400 MiB of memory",
                "auk: +0.80 cores at most, settled after 4 s",
            ],
            lines,
        )
        self.assertEqual(["nothing rose since the mark"], trial_lines(trial, self.now(), 9, 14.0))


class Keys(unittest.IsolatedAsyncioTestCase):
    """Each key, by the library's own pilot, on captures of model computers."""

    def setUp(self):
        # its debugging mode tells of each turn that takes long
        logging.getLogger("asyncio").setLevel(logging.ERROR)
        self.holder = InFolder("setUp")
        InFolder.setUp(self.holder)
        self.addCleanup(self.holder.doCleanups)
        self.folder = self.holder.folder

    async def at_desk(self, act, scenario="ringing-office", size=(120, 40)):
        """Act on the desk once its capture was judged, and return the line for the ticket."""
        path = capture_model(load_scenario(scenario), self.folder / f"{scenario}.gz", 10.0)
        with Visit(VisitOptions(self.folder / "visit", file=path)) as visit:
            app = DeskApp(visit, thresholds())
            async with app.run_test(size=size) as pilot:
                for _ in range(2400):
                    await pilot.pause(0.05)
                    if app._judgement is not None and app.pages.rows:
                        break
                await act(app, pilot)
                await pilot.press("q")
                await pilot.pause()
            return app.return_value

    @staticmethod
    def text_of(app, place):
        return str(app.query_one(place, Static).render())

    async def test_the_answer_stands_on_top_and_the_culprit_first(self):
        async def act(app, pilot):
            self.assertIn("nestcam-index", self.text_of(app, "#answer"))
            self.assertIn("STRAINED", self.text_of(app, "#answer"))
            for word in ("cpu", "memory", "disk", "link", "heat"):
                self.assertIn(word, self.text_of(app, "#gauges"))
            self.assertEqual("nestcam-index", app.pages.rows[0].name)
            del pilot

        for size in ((80, 24), (120, 40)):
            line = await self.at_desk(act, size=size)
        self.assertIn("nestcam-index", line)

    async def test_pages_sort_filter_columns_and_tables(self):
        async def act(app, pilot):
            for page in PAGES:
                self.assertEqual(page.title, app.query_one(Tabs).active_tab.label_text)
                await pilot.press("right")
                await pilot.pause()
            await pilot.press("right", "enter")
            await pilot.pause()
            self.assertIn("concern: ", str(app.screen.query_one("#text", Static).render()))
            await pilot.press("escape", "right")
            await pilot.pause()
            table = app.query_one("#table", DataTable)
            self.assertEqual("applications", app.query_one(Tabs).active_tab.label_text)
            few = len(table.columns)
            await pilot.press("c", "a", "enter")
            await pilot.pause()
            self.assertGreater(len(table.columns), few)
            await pilot.press("c", "a", "space", "enter")
            await pilot.pause()
            self.assertEqual(1, len(table.columns))
            await pilot.press("c", "a", "escape", "c", "a", "enter", "s", "s")
            await pilot.pause()
            self.assertTrue(any("↓" in str(column.label) for column in table.columns.values()))
            await pilot.press("S")
            self.assertTrue(any("↑" in str(column.label) for column in table.columns.values()))
            whole = table.row_count
            await pilot.press("o")
            self.assertLess(table.row_count, whole)
            self.assertIn("only of ", self.text_of(app, "#about"))
            await pilot.press("o", "e")
            self.assertGreater(table.row_count, whole)
            await pilot.press("e")
            self.assertEqual(whole, table.row_count)
            await pilot.press("slash", *"nestcam", "enter")
            self.assertEqual(["nestcam-index"], [row.name for row in app.pages.rows])
            await pilot.press("slash", "escape")
            self.assertEqual(whole, table.row_count)
            first = app.pages.table().name
            await pilot.press("t")
            self.assertNotEqual(first, app.pages.table().name)

        await self.at_desk(act)

    async def test_what_is_chosen_stays_chosen_and_hold_holds(self):
        async def act(app, pilot):
            await pilot.press("right", "right", "down", "down")
            await pilot.pause()
            chosen = app.pages.rows[2].key
            self.assertEqual(chosen, app.pages.chosen)
            await pilot.press("s", "S")
            await pilot.pause()
            table = app.query_one("#table", DataTable)
            self.assertEqual(chosen, app.pages.rows[table.cursor_row].key)
            await pilot.press("space")
            before = [row.key for row in app.pages.rows]
            self.assertIn("held still", self.text_of(app, "#about"))
            app._judgement = None
            app.refresh_view()
            await pilot.press("down", "up")
            self.assertEqual(before, [row.key for row in app.pages.rows])
            # sorting what is held still is of the same figures
            await pilot.press("s")
            self.assertEqual(set(before), {row.key for row in app.pages.rows})

        await self.at_desk(act)

    async def test_one_is_opened_and_a_step_asks_first(self):
        async def act(app, pilot):
            await pilot.press("question_mark")
            self.assertIsInstance(app.screen, Help)
            await pilot.press("escape", "enter")
            self.assertIsInstance(app.screen, OpenOne)
            for _ in range(2400):
                await pilot.pause(0.05)
                if app.screen._steps:
                    break
            text = str(app.screen.query_one("#text", Static).render())
            self.assertIn("command line", text)
            self.assertIn("nestcam-index", text)
            steps = app.screen.query_one("#steps", OptionList)
            actions = [step.action for step in app.screen._steps]
            steps.highlighted = actions.index("pause")
            await pilot.press("enter")
            for _ in range(2400):
                await pilot.pause(0.05)
                if isinstance(app.screen, Question):
                    break
            self.assertIsInstance(app.screen, Question)
            # what cannot be done is not offered, and why is said
            self.assertIn("nothing to act on", app.screen._reason)
            said = " ".join(str(each.render()) for each in app.screen.query(Static))
            self.assertNotIn("y: do it", said)
            await pilot.press("n", "escape")
            await pilot.pause()
            self.assertEqual(1, len(app.screen_stack))
            await pilot.press("ctrl+p", *"report")
            await pilot.pause(0.5)
            self.assertIsInstance(app.screen, CommandPalette)
            await pilot.press("escape", "escape")
            await pilot.pause()
            offered = [command.title for command in app.get_system_commands(app.screen)]
            self.assertLessEqual({"hold still", "report", "undo", "end"}, set(offered))
            for keys in (("v",), ("shift+tab",) * 2 + ("enter",)):
                await pilot.press(*keys)
                await pilot.pause()
                self.assertEqual("nestcam-index", app.screen._subject.name, keys)
                await pilot.press("escape")
                await pilot.pause()
            await pilot.click("#answer")
            await pilot.pause()
            self.assertEqual("nestcam-index", app.screen._subject.name)
            await pilot.press("escape", "m")
            await pilot.pause()
            self.assertIsInstance(app.screen, Notice)
            await pilot.press("escape")
            await pilot.pause()
            self.assertEqual([], app.acts)

        await self.at_desk(act)

    async def test_steps_are_against_what_was_opened_and_not_the_first_culprit(self):
        async def act(app, pilot):
            app.push_screen(OpenOne(app.visit, Subject(None, "plumage-catalogue"), app.acts))
            for _ in range(2400):
                await pilot.pause(0.05)
                if app.screen._steps:
                    break
            words = app.screen._fix("do", "pause")
            pid = int(words[words.index("--pid") + 1])
            found = [row for row in app._judgement.pages["processes"][0].rows if row.pid == pid]
            self.assertEqual(["plumage-catalogue"], [row.name for row in found])
            await pilot.press("escape")
            app.push_screen(OpenOne(app.visit, Subject(None, "nobody"), app.acts))
            self.assertIsNotNone(app.screen._refusal())
            await pilot.press("escape")
            await pilot.pause()

        await self.at_desk(act)

    async def test_five_illnesses_are_answered_and_lead_to_a_step(self):
        """The answer at a glance, who it is by v or by the first finding, and what to do."""
        for scenario, answer, key, step in (
            ("ringing-office", "nestcam-index", "v", "wait"),
            ("noon-copy", "ledge-copy", "v", "pause"),
            ("slow-drip", "memory", "v", "report-fault"),
            ("dark-lighthouse", "gateway", "findings", "check-gateway"),
            ("still-fan", "heat", "findings", "check-fan"),
        ):

            async def act(app, pilot, answer=answer, key=key, step=step):
                self.assertIn(answer, self.text_of(app, "#answer").lower())
                if key == "findings":
                    # the gravest stands first
                    app.query_one("#pages", Tabs).active = "page-findings"
                    await pilot.pause()
                    await pilot.press("enter")
                else:
                    await pilot.press(key)
                for _ in range(2400):
                    await pilot.pause(0.05)
                    if app.screen._steps:
                        break
                self.assertIn(step, [shown.action for shown in app.screen._steps])
                await pilot.press("escape")
                await pilot.pause()

            with self.subTest(scenario):
                line = await self.at_desk(act, scenario)
                self.assertRegex(line, "sure [0-9]+ %")

    async def test_what_has_no_process_is_opened_by_its_name(self):
        async def act(app, pilot):
            rows = app._judgement.pages["start-up"][0].rows
            row = next(row for row in rows if row.texts[0] == "Mail lantern")
            app.opened(Pages.Opened(row))
            for _ in range(2400):
                await pilot.pause(0.05)
                if app.screen._steps:
                    break
            self.assertEqual(["keep-from-login"], [step.action for step in app.screen._steps])
            self.assertIn("/etc/xdg/autostart/mail-lantern.desktop", app.screen._fix("do", "x"))
            self.assertIsNone(app.screen._refusal())
            self.assertIn("mail-lantern", str(app.screen.query_one("#text", Static).render()))
            await pilot.press("escape")
            await pilot.pause()

        await self.at_desk(act)

    async def test_it_goes_on_where_a_recorder_does_in_its_next_segment(self):
        ring = self.folder / "ring"
        ring.mkdir()
        for number in (1, 2):
            path = ring / f"segment-{number:06}.jsonl.gz"
            capture_model(load_scenario("ringing-office"), path, 8.0)
        options = VisitOptions(self.folder / "visit")
        with RecorderVisit(options, ring, None, lambda: True) as visit:
            visit.path = ring / "segment-000001.jsonl.gz"
            app = DeskApp(visit, thresholds())
            async with app.run_test() as pilot:
                for _ in range(2400):
                    await pilot.pause(0.05)
                    if app._follower.path != ring / "segment-000001.jsonl.gz":
                        break
                for _ in range(2400):
                    await pilot.pause(0.05)
                    if app._follower.is_over:
                        break
                now, _ = app._follower.latest()
                # the last minutes are those of both
                self.assertEqual(16, len(now.gauges["cpu"].used))
                busiest = max(now.applications.values(), key=lambda each: each.cores)
                self.assertEqual(16, len(busiest.history))
                self.assertIn("recorded for", self.text_of(app, "#state"))
                await pilot.press("plus", "q")

    async def test_nothing_is_done_to_another_computer(self):
        path = capture_model(load_scenario("ringing-office"), self.folder / "x.gz", 10.0)
        options = VisitOptions(self.folder, target=("--on", "far"), file=path)
        with Visit(options) as visit:
            app = DeskApp(visit, thresholds())
            async with app.run_test() as pilot:
                answers = []
                app.push_screen(Question("pause", "text", "another computer"), answers.append)
                await pilot.pause()
                await pilot.press("y")
                await pilot.pause()
                self.assertEqual([False], answers)


class Terminal:
    """The desk on a real pseudo-terminal."""

    def __init__(self, folder, *arguments, environment=None):
        self.said = b""
        self.child, self.terminal = pty.fork()
        if self.child == 0:
            # as if somebody had started the tests by nohup(1)
            signal.signal(signal.SIGHUP, signal.SIG_IGN)
            os.chdir(folder)
            os.environ.update({"TERM": "xterm-256color", **(environment or {})})
            os.execv(DUNMIST, [DUNMIST, *map(str, arguments)])
        fcntl.ioctl(self.terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
        os.set_blocking(self.terminal, False)

    def kill(self):
        """End it whatever it does; nothing outlives its test."""
        with suppress(ProcessLookupError, ChildProcessError):
            os.kill(self.child, signal.SIGKILL)
            os.waitpid(self.child, 0)

    def read(self):
        try:
            while data := os.read(self.terminal, 65536):
                self.said += data
        except (BlockingIOError, OSError):
            return

    def await_text(self, *words, longest_s=90.0):
        """Wait until the screen has said one of these words since the last time."""
        end = time.monotonic() + longest_s
        while time.monotonic() < end:
            self.read()
            text = STYLE.sub("", self.said.decode("utf-8", "replace"))
            places = [text.find(word) + len(word) for word in words if word in text]
            if places:
                # what came in the same breath is waited for by whoever asks next
                self.said = text[min(places) :].encode()
                return text
            time.sleep(0.1)
        raise AssertionError(f"none of {words} within {longest_s:.0f} s: {text[-3000:]}")

    def type(self, keys):
        os.write(self.terminal, keys.encode())

    def end(self, longest_s=60.0, again=()):
        """Return the status once it has ended; these keys are typed until it has."""
        end, next_s = time.monotonic() + longest_s, time.monotonic() + 5.0
        while time.monotonic() < end:
            self.read()
            if again and time.monotonic() >= next_s:
                # on a busy machine something may have been opened after the key before
                self.type(again[0])
                again, next_s = (*again[1:], again[0]), time.monotonic() + 2.0
            pid, status = os.waitpid(self.child, os.WNOHANG)
            if pid:
                self.read()
                os.close(self.terminal)
                return os.waitstatus_to_exitcode(status)
            time.sleep(0.05)
        os.kill(self.child, signal.SIGKILL)
        raise AssertionError("it did not end")


class Visiting(InFolder):
    measures_computer = True

    def test_a_whole_visit(self):
        child = start_busy(self, "tern-storm.py", 300)
        environment = {"XDG_STATE_HOME": str(self.folder / "state")}
        terminal = Terminal(self.folder, "desk", "-o", "visit", environment=environment)
        self.addCleanup(terminal.kill)
        terminal.await_text("What is complained of?")
        terminal.type("the fan is loud\r")
        terminal.await_text("(sure")
        terminal.await_text("fans follow the heat", "No fan", "fan turns", "fans turn")
        # on a busy machine somebody else may come first
        for keys in ("/", "tern-storm", "\r", "\r"):
            terminal.type(keys)
            time.sleep(1.0)
        terminal.await_text("command line")
        terminal.await_text("pause")
        terminal.type("\x1b[B\r")
        said = terminal.await_text("y: do it")
        self.assertIn(str(child.pid), said)
        terminal.type("y")
        terminal.await_text("processes are paused", longest_s=120)
        state = Path(f"/proc/{child.pid}/stat")
        self.assertEqual("T", state.read_text().rpartition(")")[2].split()[0])
        terminal.type("\x1b")
        # long enough for a before and an after
        time.sleep(8.0)
        terminal.type("r")
        terminal.await_text("report.pdf", longest_s=120)
        terminal.type("\x1b")
        time.sleep(0.5)
        # what is typed while the report still closes goes nowhere
        typed_s = 0.0
        end = time.monotonic() + 60
        while state.read_text().rpartition(")")[2].split()[0] == "T":
            self.assertLess(time.monotonic(), end, "it stays paused")
            if time.monotonic() > typed_s + 15:
                terminal.type("z")
                typed_s = time.monotonic()
            terminal.read()
            time.sleep(0.1)
        time.sleep(1.0)
        terminal.type("\x1b")
        time.sleep(0.5)
        terminal.type("q")
        self.assertEqual(0, terminal.end(again=("\x1b", "q")))
        said = STYLE.sub("", terminal.said.decode("utf-8", "replace"))
        self.assertIn("Done: pause tern-storm.py", " ".join(said.split()))
        self.assertIn('"the fan is loud"', said)
        kept = {path.name for path in (self.folder / "visit").iterdir()}
        wanted = {"capture.jsonl.gz", "report.html", "report.pdf", "visit.txt", "acts.jsonl"}
        self.assertLessEqual(wanted, kept)
        journal = (self.folder / "visit" / "acts.jsonl").read_text()
        self.assertEqual(journal, (self.folder / "state" / "dunmist" / "acts.jsonl").read_text())
        report = (self.folder / "visit" / "report.html").read_text()
        self.assertIn("Before and after what was done", report)
        # nothing goes on behind the visit
        left = subprocess.run(
            ["pgrep", "-f", str(self.folder / "visit")], capture_output=True, text=True, check=False
        )
        self.assertEqual("", left.stdout)
        triage = self.triage(self.folder / "visit" / "capture.jsonl.gz")
        self.assertGreater(triage["capture"]["ticks"], 5)

    def test_a_terminal_that_closes_keeps_what_was_sampled(self):
        terminal = Terminal(self.folder, "desk", "-o", "visit")
        self.addCleanup(terminal.kill)
        terminal.await_text("sampled for 2 s", "sampled for 3 s", "sampled for 4 s")
        os.close(terminal.terminal)
        end = time.monotonic() + 30
        while os.waitpid(terminal.child, os.WNOHANG) == (0, 0):
            self.assertLess(time.monotonic(), end, "the screen goes on without its terminal")
            time.sleep(0.1)
        path = self.folder / "visit" / "capture.jsonl.gz"
        end = time.monotonic() + 30
        while time.monotonic() < end:
            left = subprocess.run(["pgrep", "-f", str(path)], capture_output=True, check=False)
            if not left.stdout:
                break
            time.sleep(0.2)
        self.assertEqual(b"", left.stdout)
        self.assertGreaterEqual(self.triage(path)["capture"]["ticks"], 2)

    @unittest.skipUnless(os.geteuid() == 0, "needs the administrator")
    def test_a_full_disk_is_said_and_it_goes_on_without_keeping(self):
        place = self.folder / "small"
        place.mkdir()
        mount = ["mount", "-t", "tmpfs", "-o", "size=200k", "small", str(place)]
        subprocess.run(mount, check=True)
        self.addCleanup(subprocess.run, ["umount", str(place)], check=True)
        (place / "rest").write_bytes(bytes(172 << 10))
        terminal = Terminal(self.folder, "desk", "-o", place / "visit")
        self.addCleanup(terminal.kill)
        terminal.await_text("What is complained of?")
        terminal.type("\r")
        terminal.await_text("nothing more is kept")
        terminal.await_text("(sure")
        terminal.type("q")
        self.assertEqual(0, terminal.end())
        said = STYLE.sub("", terminal.said.decode("utf-8", "replace"))
        self.assertIn("only the beginning is kept", " ".join(said.split()))
        self.assertGreater(self.triage(place / "visit" / "capture.jsonl.gz")["capture"]["ticks"], 1)
        self.assertEqual([], list(Path("/dev/shm").glob("dunmist-visit-*")))

    def test_the_screen_of_a_recorder(self):
        environment = {"XDG_STATE_HOME": str(self.folder / "state")}
        options = {"folder": self.folder, "environment": environment}
        terminal = Terminal(
            self.folder, "watch", "run", "--screen", "--every", "0.5s", environment=environment
        )
        self.addCleanup(terminal.kill)
        terminal.await_text("recorded for 2 s", "recorded for 3 s", "recorded for 4 s")
        terminal.type("k")
        terminal.await_text("done")
        terminal.type("\x1b")
        terminal.await_text("sure ")
        terminal.type("q")
        self.assertEqual(0, terminal.end())
        self.assertIn("marked on the screen", run("watch", "list", **options).stdout)
        # one that runs already is looked at, and goes on
        recorder = subprocess.Popen(
            [DUNMIST, "watch", "run", "--every", "0.5s"],
            env={**os.environ, **environment},
            stderr=subprocess.DEVNULL,
        )
        self.addCleanup(recorder.wait)
        self.addCleanup(recorder.terminate)
        ring = self.folder / "state" / "dunmist" / "watch" / "ring"
        await_ticks(ring / "segment-000002.jsonl.gz", 2, recorder)
        terminal = Terminal(self.folder, "watch", "run", "--screen", environment=environment)
        self.addCleanup(terminal.kill)
        terminal.await_text("recorded for")
        terminal.type("q")
        self.assertEqual(0, terminal.end())
        self.assertIsNone(recorder.poll())
        self.one_line("watch", "run", "--screen", status=2)

    def test_lines_of_text_where_there_is_no_screen(self):
        path = self.sample
        done = run("desk", path, folder=self.folder)
        self.assertIn("nestcam-index", done.stdout)
        self.assertNotIn("\x1b", done.stdout)
        self.one_line("desk", path, "--on", "far", status=2)


class NeverBegun(InFolder):
    def test_what_cannot_be_sampled_is_one_line_and_leaves_no_folder(self):
        for status, options in (
            (1, ("--via", "false")),
            (1, ("--via", "auk-tunnel sh")),
            (1, ("--root", "nowhere")),
            (2, ("--on", "two words")),
            (2, ("--sudo",)),
        ):
            with self.subTest(options):
                self.one_line("desk", *options, "-o", "visit", status=status)
                self.assertFalse((self.folder / "visit").exists())

    def test_the_screen_gives_way_to_that_line(self):
        (self.folder / "visit").mkdir()
        (self.folder / "visit" / "notes.txt").write_text("of somebody")
        terminal = Terminal(self.folder, "desk", "--via", "auk-tunnel sh", "-o", "visit")
        self.addCleanup(terminal.kill)
        self.assertEqual(1, terminal.end())
        self.assertIn(b"dunmist: auk-tunnel: no such command", terminal.said)
        self.assertEqual(["notes.txt"], [path.name for path in (self.folder / "visit").iterdir()])


class Cost(InFolder):
    def test_the_screen_loads_nothing_that_computes(self):
        script = (
            "import sys\nfrom dunmist.desk.app import DeskApp\n"
            "print(*sorted({name.partition('.')[0] for name in sys.modules}))"
        )
        done = subprocess.run(
            [sys.executable, "-c", script], capture_output=True, text=True, check=True
        )
        self.assertFalse({"numpy", "pandas", "scipy", "matplotlib"} & set(done.stdout.split()))


if __name__ == "__main__":
    unittest.main()
