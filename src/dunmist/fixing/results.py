"""What came of an act."""

from typing import NamedTuple

# thread number to what it had before
Before = dict[int, int]


class Result(NamedTuple):
    """What came of an act, whether that is what it was for, and what each process had before."""

    text: str
    worked: bool
    before: dict[int, Before] | None = None


class Outcome(NamedTuple):
    """The same, with the number under which it stands in the journal."""

    text: str
    worked: bool
    number: int
