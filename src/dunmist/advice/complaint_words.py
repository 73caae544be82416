"""Recognize complaints of people in a note, by a table of words.

A complaint is a word of ``COMPLAINTS`` or ``program:NAME``.
"""

import re
import tomllib
from functools import cache
from importlib.resources import files
from typing import Any

COMPLAINTS = (
    "slow",
    "freezes",
    "stutters",
    "hot",
    "noisy",
    "battery",
    "network",
    "memory",
    "disk",
    "start",
    "crash",
    "security",
)
PROGRAM = "program:"
# longer notes and more complaints come from no person
NOTE_MAX_CHARACTERS, COMPLAINTS_MAX = 2000, 8
# of a note that could mean anything nothing is made
CLEAR_MOST = 2


@cache
def complaint_words() -> dict[str, Any]:
    """Return the table of words and sentences."""
    text = (files("dunmist.advice") / "complaints.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def understood(note: str | None) -> list[str]:
    """Return the complaints that a note speaks of, none where it is not clear."""
    if not note:
        return []
    said = note[:NOTE_MAX_CHARACTERS]
    words = [
        word
        for word, patterns in complaint_words()["words"].items()
        if re.search(rf"(?i)\b(?:{'|'.join(patterns)})\b", said)
    ]
    return words if len(words) <= CLEAR_MOST else []
