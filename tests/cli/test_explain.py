"""Words on the screen are explained, with the figure of a capture."""

import textwrap
import unittest

from dunmist.advice.glossary import explain, glossary, spellings
from tests.program import InFolder, run


class Words(unittest.TestCase):
    def test_there_are_many_and_each_is_short_and_has_one_meaning(self):
        self.assertGreaterEqual(len(glossary()), 120)
        words = [
            *glossary(),
            *(word for entry in glossary().values() for word in entry.get("also", ())),
        ]
        self.assertEqual([], [word for word in set(words) if words.count(word) > 1])
        self.assertEqual(set(words), set(spellings()))
        for word, entry in glossary().items():
            with self.subTest(word):
                self.assertEqual(word, word.lower())
                self.assertLessEqual(len(textwrap.wrap(f"{word}: {entry['text']}", 80)), 6)

    def test_case_and_other_spellings_do_not_matter(self):
        self.assertEqual(explain("load"), explain("Load Average"))
        self.assertIsNone(explain("barnacle"))


class Explained(InFolder):
    def said(self, *arguments):
        done = run("explain", *arguments, folder=self.folder).stdout
        self.assertLessEqual(len(done.splitlines()), 8)
        return " ".join(done.split())

    def test_with_the_figure_of_a_capture(self):
        for word, expected in (
            ("steal", r"on skerrow-desk-04: 0 % of the CPU time$"),
            ("temperature", r"Package id 0: 7\d °C, limit 100 °C$"),
            ("cores", r"in use: [34]\.\d+ cores \((9\d|100) % of 4\)$"),
            ("available", r"\d\.\d GiB of \d+\.\d GiB$"),
            ("disk", r"sda: calm, \S+ % used, tasks waited \S+ %$"),
        ):
            with self.subTest(word):
                self.assertRegex(self.said(word, self.sample), expected)

    def test_kinds_of_finding_and_columns_explain_themselves(self):
        self.assertRegex(self.said("memory-leak"), "^memory-leak, a kind of finding: .*grows")
        self.assertRegex(self.said("busy_mean"), "a column of disks")

    def test_without_a_word_it_lists_them_and_an_unknown_one_has_a_near_one(self):
        listed = run("explain", folder=self.folder).stdout
        self.assertEqual(set(glossary()), set(" ".join(listed.split()).split(", ")))
        self.assertIn("did you mean 'iowait'", self.one_line("explain", "iowiat", status=2))


if __name__ == "__main__":
    unittest.main()
