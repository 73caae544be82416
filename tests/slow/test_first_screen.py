"""The first screen of a triage: it fits, says the same, and cuts nothing that may be pasted."""

import fcntl
import json
import os
import pty
import re
import struct
import termios
import threading
import tomllib
import unittest

from dunmist.reports import styles
from dunmist.simulation import load_scenario
from tests.program import DATA, FORK_SERVER, InFolder, capture_model, run

STYLE = re.compile(r"\x1b\[[0-9;]*m")
PATIENTS = (
    "ringing-office",
    "still-fan",
    "narrow-burrow",
    "two-faults",
    "calm-morning",
    "noon-copy",
    "lone-thread",
    "full-cupboard",
    "busy-ferry",
    "opened-album",
)


def on_terminal(folder, rows, columns, *arguments, environment=None):
    """Return what the program writes to a terminal of a size."""
    terminal, other = pty.openpty()
    fcntl.ioctl(other, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    said = []
    reading = threading.Thread(target=read_all, args=(terminal, said))
    reading.start()
    words = [*map(str, arguments)]
    FORK_SERVER.run_on([other] * 3, words, folder, {**os.environ, **(environment or {})}, 60)
    os.close(other)
    reading.join()
    os.close(terminal)
    return b"".join(said).decode().replace("\r", "")


def read_all(terminal, said):
    """Read until nobody has the other end of a terminal."""
    while True:
        try:
            data = os.read(terminal, 65536)
        except OSError:
            return
        said.append(data)


class FirstScreen(InFolder):
    def screen(self, name, rows, columns):
        styled = on_terminal(self.folder, rows, columns, "triage", name)
        return STYLE.sub("", styled).rstrip("\n").split("\n")

    def test_it_fits_and_says_what_the_triage_says(self):
        for name in PATIENTS:
            path = capture_model(load_scenario(name), self.folder / f"{name}.gz")
            triage = self.triage(path)
            verdict = triage["verdict"]
            for rows, columns in ((40, 140), (30, 100), (24, 80)):
                with self.subTest(name, columns=columns):
                    lines = self.screen(path.name, rows, columns)
                    shown = "\n".join(lines)
                    self.assertLess(len(lines), rows, shown)
                    self.assertLessEqual(max(map(len, lines)), columns, shown)
                    text = " ".join(shown.split())
                    worst = verdict["worst"]
                    word = worst["severity"] if worst["from"] == "finding" else verdict["level"]
                    self.assertIn(f"{word.upper()} {verdict['headline'][:60]}", text)
                    self.assertIn((verdict["answer"] or "")[:60], text)
                    for culprit in triage["culprits"][:1]:
                        self.assertRegex(text, rf"1 {culprit['name']} {culprit['pids'][0]}\b")
                    self.assertIn(f"dunmist triage {path.name} --full", text)
                    steps = [
                        step
                        for item in triage["culprits"] + triage["findings"]
                        for step in item["steps"]
                    ]
                    commands = {step["command"] for step in steps}
                    actions = {step["action"] for step in steps}
                    for line in lines:
                        if line.startswith("     ") and not line.startswith("      "):
                            command = line.strip().partition("   undo: ")[0]
                            words = command.split()
                            if words[:3] == ["dunmist", "fix", "do"]:
                                self.assertEqual(path.name, words[3])
                                self.assertIn(words[4], actions)
                            else:
                                self.assertIn(command, commands)

    def test_the_worst_comes_first_and_has_its_step(self):
        for name, head, step in (
            ("counting-down", "URGENT  sda reports", "1 save-and-replace-disk"),
            ("lights-out", "CONCERN  ", "1 "),
            (
                "open-door",
                "CALM  Nothing limits this computer: it is calm. Worth a note: gull-bea",
                "1 see-who-needs-port",
            ),
        ):
            with self.subTest(name):
                path = capture_model(load_scenario(name), self.folder / f"{name}.gz")
                lines = self.screen(path.name, 24, 80)
                self.assertTrue(any(line.startswith(head) for line in lines), lines)
                self.assertTrue(any(line.startswith(step) for line in lines), lines)

    def test_each_says_what_its_patient_needs(self):
        expected = tomllib.loads((DATA / "screens.toml").read_text(encoding="utf-8"))
        for name, words in expected.items():
            with self.subTest(name):
                path = capture_model(load_scenario(name), self.folder / f"{name}.gz", 30)
                said = " ".join(" ".join(self.screen(path, 40, 100)).split())
                for pattern in words["has"]:
                    self.assertRegex(said, pattern)
                for pattern in words.get("lacks", ()):
                    self.assertNotRegex(said, pattern)

    def test_where_nobody_is_to_blame_the_busiest_are_shown(self):
        path = capture_model(load_scenario("heavy-morning"), self.folder / "a.gz")
        self.assertEqual([], self.triage(path)["culprits"])
        lines = self.screen(path.name, 24, 80)
        self.assertIn('"takes ten minutes after logging in"', lines[1])
        first = lines.index(next(line for line in lines if "the busiest" in line)) + 1
        self.assertRegex(lines[first], r"^  \S+ +\d+ +isbister +0\.2\d +\S+")

    def test_colours_are_never_all_that_tells_and_may_be_off(self):
        path = capture_model(load_scenario("ringing-office"), self.folder / "a.gz", 10.0)
        coloured = on_terminal(self.folder, 50, 120, "triage", path.name)
        plain = on_terminal(
            self.folder, 50, 120, "triage", path.name, environment={"NO_COLOR": "1"}
        )
        self.assertIn("\x1b[", coloured)
        self.assertNotIn("\x1b[", plain)
        self.assertEqual(STYLE.sub("", coloured), plain)

    def test_colours_can_be_read_on_black_and_on_white(self):
        looks = {*styles.LOOKS.values(), *styles.SEVERITY_LOOKS.values()}
        colours = {look.terminal for look in looks} - {None}
        self.assertGreater(len(colours), 3)
        for colour in colours:
            # the cube of the 256 colours has six steps for each of red, green and blue
            steps = divmod(colour - 16, 36)
            parts = [steps[0], *divmod(steps[1], 6)]
            linear = [
                (((40 * part + 55) / 255 + 0.055) / 1.055) ** 2.4 if part else 0.0 for part in parts
            ]
            light = 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
            with self.subTest(colour):
                self.assertGreaterEqual(1.05 / (light + 0.05), 3)
                self.assertGreaterEqual((light + 0.05) / 0.05, 3)

    def test_all_of_it_is_for_files_and_on_demand(self):
        path = capture_model(load_scenario("ringing-office"), self.folder / "a.gz", 10.0)
        piped = run("triage", path.name, folder=self.folder).stdout
        self.assertIn("How it was sampled", piped)
        full = on_terminal(self.folder, 50, 120, "triage", path.name, "--full")
        self.assertIn("How it was sampled", STYLE.sub("", full))
        json.loads(run("triage", path.name, "--json", folder=self.folder).stdout)


if __name__ == "__main__":
    unittest.main()
