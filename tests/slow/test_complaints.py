"""What somebody complained of decides which question the verdict answers."""

import json
import re
import unittest

from dunmist.advice import complaint_words, complaints
from dunmist.cli import parameters
from dunmist.simulation import load_scenario
from tests.program import InFolder, capture_model, run


class Words(unittest.TestCase):
    def test_a_note_is_understood_where_it_is_clear(self):
        for note, expected in (
            ("Slow since the update", ["slow"]),
            ("it hangs at every click", ["freezes"]),
            ("the fan is so loud", ["noisy"]),
            ("gets hot on the lap", ["hot"]),
            ("Wi-Fi drops", ["network"]),
            ("battery empty by noon", ["battery"]),
            ("says 95 degrees", ["hot"]),
            ("it lags", ["slow"]),
            ("temperature is high", ["hot"]),
            ("out of memory", ["memory"]),
            ("everything stutters", ["stutters"]),
            ("swap is used", ["memory"]),
            ("it switched off at noon", ["crash"]),
            ("cannot save my letter", ["disk"]),
            ("there is a strange process", ["security"]),
            ("booting takes ages", ["slow", "start"]),
            ("slow, hot, loud and the battery", []),
            ("shelf 12, second floor", []),
            ("fantastic photographs, hotel", []),
            (None, []),
        ):
            with self.subTest(note):
                self.assertEqual(expected, complaint_words.understood(note))

    def test_people_have_many_words_for_it(self):
        phrases = complaint_words.complaint_words()["words"].values()
        self.assertGreaterEqual(sum(map(len, phrases)), 150)

    def test_every_word_can_be_given_and_answered(self):
        words = list(complaint_words.complaint_words()["words"])
        self.assertEqual(words, list(complaint_words.COMPLAINTS))
        self.assertEqual(complaint_words.COMPLAINTS, parameters.COMPLAINTS)
        self.assertEqual(set(words), set(complaints.ANSWERS))


class Answers(InFolder):
    def headline(self, capture, *words):
        given = [part for word in words for part in ("--complaint", word)]
        done = run("triage", capture, "--json", *given, folder=self.folder)
        verdict = json.loads(done.stdout)["verdict"]
        return f"{verdict['answer']} {verdict['headline']}"

    def test_each_is_answered_from_what_was_measured(self):
        cases = {
            "ringing-office": (
                ("slow", r"^It is slow, and this is why: CPU time limits"),
                ("program:weather-mast", r"^weather-mast did next to nothing while it was samp"),
                ("program:NESTCAM", r"^nestcam-index is what is to blame itself\. CPU time"),
                ("program:barnacle", r"^Nothing called barnacle ran"),
                ("hot", r"^It is not hot: .* is at 7\d °C, 2\d K below its limit\. .*nestcam-in"),
                ("start", r"^Its last start, 1 d 2 h ago, took 26 s until all services ran"),
            ),
            "still-fan": (
                ("hot", r"^It is hot: .* 3 K below its limit\. What heats it most is ledger-view"),
                ("noisy", r"^No fan turns. It is hot"),
            ),
            "tired-battery": (
                ("battery", r"^It draws 26\.\d W from its battery, which lasts 2\d min"),
                ("slow", r"^It was not slow while it was sampled: .*To catch it: .*Nothing limit"),
                ("memory", r"^Memory is not short: .* GiB of .* GiB is available"),
            ),
            "busy-ferry": (
                (
                    "network",
                    r"^The line is full: wlp4s0 sends 34\.\d MiB a second.*ferry-sync: "
                    r"34\.\d MiB sent and 0 bytes received a second, with 172\.16\.0\.9 port 8443",
                ),
            ),
            "counting-down": (
                ("disk", r"^There is something wrong with a disk: sda reports that it"),
            ),
            "lights-out": (("crash", r"^This is what is left of it: "),),
            "frayed-cable": (("network", r"^The line loses data: Data over enp3s0"),),
            "narrow-burrow": (
                ("freezes", r"^What freezes it: Pages go to swap"),
                ("memory", r"^Memory is short: .* plate-stitcher holds most, 2\.1 GiB"),
                ("stutters", r"^It stutters, and this is why: Memory limits"),
                ("program:chart-table", r"^chart-table is slow because it waits: \d+ % of the t"),
            ),
            "heavy-morning": (("start", r"^It started 6 min \d+ s ago\. What starts at login"),),
            "calm-morning": (
                ("freezes", r"^It did not freeze while it was sampled: 11 of 11 ticks came"),
                ("battery", r"^It publishes no battery"),
                ("crash", r"^Nothing is left of a crash"),
                ("security", r"^Nothing odd was seen"),
                ("disk", r"^No disk is to blame: / is 52 % full"),
                ("stutters", r"^It did not stutter"),
                ("network", r"^The line is not full: .*Nobody moves anything to speak of"),
            ),
        }
        for name, asked in cases.items():
            capture = capture_model(load_scenario(name), self.folder / f"{name}.gz")
            for word, expected in asked:
                with self.subTest(name, word=word):
                    self.assertRegex(self.headline(capture, word), expected)

    def test_it_travels_with_the_capture_and_is_overridden(self):
        run(
            "capture",
            "-o",
            "x.gz",
            "--for",
            "0.4s",
            "--every",
            "0.2s",
            "--complaint",
            "hot",
            "--complaint",
            "program:dunmist",
            "--note",
            "slow",
            folder=self.folder,
        )
        own = self.headline("x.gz")
        self.assertRegex(own, r"^(It is (not )?hot|How hot it is)")
        self.assertIn("dunmist", own)
        self.assertNotRegex(own, r"It (is|was not) slow")
        self.assertRegex(self.headline("x.gz", "slow"), r"^It (is|was not) slow")
        text = run("report", "x.gz", "-o", "-", "--complaint", "start", folder=self.folder).stdout
        self.assertIn("starts could not be seen", " ".join(text.split()))

    def test_what_would_be_ignored_is_refused(self):
        sample = self.sample
        for arguments, said in (
            (("triage", sample, "-o", "y.gz"), "sampled already; leave out --output"),
            (("triage", sample, "--for", "3s"), "leave out --for"),
            (("triage", sample, "--note", "x"), "leave out --note"),
            (("triage", sample, "--complaint", "hott"), "write 'hot' or program:NAME"),
            (("triage", sample, "--complaint", "program:"), "program:NAME"),
            (("report", sample, "--brief", "--audience", "owner"), "leave out --audience"),
            (("report", sample, "--brief", "--complaint", "hot"), "technician's report"),
            (("view", "processes", sample, "--json", "--csv"), "choose one"),
            (("view", "cores", sample, "-o", "a.png", "--limit", "3"), "leave out --limit"),
            (("view", "cores", sample, "--force"), "name one with -o"),
            (("view", "process", sample, "init", "--sort", "pid"), "No such option '--sort'"),
            (("fix", "--list", "--undo"), "leave out --undo"),
            (("fix", "--undo", "--step", "2"), "leave out --step"),
        ):
            with self.subTest(said):
                self.assertIn(said, re.sub(r"\s+", " ", self.one_line(*arguments, status=2)))
        self.assertEqual([sample.name], [path.name for path in self.folder.iterdir()])
