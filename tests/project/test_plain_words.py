"""Texts that people read are short sentences in the words of the trade; the limits are data."""

import ast
import re
import tokenize
import tomllib
import unittest
from importlib import import_module

import click

from dunmist.cli.main import COMMANDS
from tests.program import PROJECT

SOURCE = PROJECT / "src" / "dunmist"
LIMITS = tomllib.loads((PROJECT / "tests/data/plain_words.toml").read_text(encoding="utf-8"))
# where a sentence ends: before a capital, a quote or a mark of Markdown
ENDS = re.compile(r"(?:(?<=[.!?:;])|(?<=[.!?:;]\*\*))\s+(?=[A-Z`*\[('])")


def sentences(text):
    """Return the sentences of a text, in which code counts as one word."""
    plain = re.sub(r"\s+", " ", re.sub(r"`[^`]*`", "X", text))
    return [word for word in ENDS.split(plain) if word.strip()]


def strings(value, path=""):
    """Yield every text of a table with where it stands."""
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict):
        for key, inner in value.items():
            yield from strings(inner, f"{path}.{key}")
    elif isinstance(value, list):
        for inner in value:
            yield from strings(inner, path)


def prose(text):
    """Return a page of Markdown without its tables and its blocks of code."""
    text = re.sub(r"```.*?```", "", text, flags=re.S)
    lines = [line for line in text.splitlines() if not line.startswith(("|", "    ", "#"))]
    # an entry of a list is a paragraph of its own
    return re.split(r"\n\s*\n|\n(?=[-*] |\d+\. )", "\n".join(lines))


def commands():
    """Yield each command and subcommand with its words."""
    for name in COMMANDS:
        command = getattr(import_module(f"dunmist.cli.{name}"), name)
        yield name, command
        for inner, subcommand in getattr(command, "commands", {}).items():
            yield f"{name} {inner}", subcommand


def texts():
    """Yield each text with the name of its place."""
    for name in LIMITS["tables"]:
        for path, text in strings(tomllib.loads((SOURCE / name).read_text(encoding="utf-8"))):
            yield f"{name}{path}", text
    for name in LIMITS["pages"]:
        for text in prose((PROJECT / name).read_text(encoding="utf-8")):
            yield name, text
    for name, line in COMMANDS.items():
        yield f"{name} --help", line
    for name, command in commands():
        # a paragraph is a text: a list of names may be longer than a sentence
        for text in (command.help or "").split("\n\n"):
            yield f"{name} --help", text.partition("Topics:")[0]
        for option in command.params:
            if isinstance(option, click.Option):
                yield f"{name} {option.opts[-1]}", option.help or ""


def names(tree):
    """Yield the names that a module defines or uses."""
    for node in ast.walk(tree):
        for field in ("name", "id", "arg", "attr"):
            if isinstance(getattr(node, field, None), str):
                yield getattr(node, field)


def remarks(path):
    """Yield each comment and docstring of a module; a comment of several lines is one."""
    with path.open("rb") as file:
        comments = [
            item for item in tokenize.tokenize(file.readline) if item.type == tokenize.COMMENT
        ]
    last = None
    for item in comments:
        goes_on = last and item.start[0] == last.start[0] + 1 and item.start[1] == last.start[1]
        if not goes_on:
            yield item.string.lstrip("# ")
        last = item
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            yield ast.get_docstring(node) or ""


class PlainWords(unittest.TestCase):
    def test_no_sentence_is_too_long(self):
        longest = LIMITS["sentence_words_max"]
        long = [
            f"{place}: {len(sentence.split())} words: {sentence}"
            for place, text in texts()
            for sentence in sentences(text)
            if len(sentence.split()) > longest
        ]
        self.assertEqual([], long)

    def test_no_text_has_a_phrase_that_is_ruled_out(self):
        result = [
            f"{place}: {phrase!r} in {text!r}"
            for place, text in texts()
            for phrase in LIMITS["phrases"]
            if re.search(rf"\b{phrase}\b", text, re.I)
        ]
        self.assertEqual([], result)

    def test_a_module_says_what_it_does_in_one_short_sentence(self):
        for path in sorted(SOURCE.rglob("*.py")):
            with self.subTest(str(path.relative_to(SOURCE))):
                head = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or ""
                first = re.split(r"(?<=[.!?])\s", head, maxsplit=1)[0]
                self.assertTrue(first)
                self.assertLessEqual(len(first.split()), LIMITS["head_words_max"], first)
                self.assertNotRegex(first, rf"\A(?:{LIMITS['heads_ruled_out']})\b")

    def test_a_remark_begins_with_a_noun_or_a_verb(self):
        ruled_out = re.compile(rf"(?:{LIMITS['remarks_ruled_out']})\b", re.I)
        for path in sorted(SOURCE.rglob("*.py")):
            with self.subTest(str(path.relative_to(SOURCE))):
                self.assertEqual([], [text for text in remarks(path) if ruled_out.match(text)])

    def test_no_name_has_a_word_that_is_ruled_out(self):
        ruled_out = re.compile(rf"(?:\b|_)(?:{'|'.join(LIMITS['names'])})s?(?:_|\b)", re.I)
        for path in sorted(SOURCE.rglob("*.py")):
            with self.subTest(str(path.relative_to(SOURCE))):
                used = {*names(ast.parse(path.read_text(encoding="utf-8")))}
                found = {name for name in used if ruled_out.search(name)}
                self.assertEqual(set(), found - {*LIMITS["names_kept"]})


if __name__ == "__main__":
    unittest.main()
