"""Compares captures: two of them, or several good ones with one of now."""

import re
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from dunmist.advice import Compared, Judged, describe_comparison, describe_unusual
from dunmist.compare import Examined, Match, Unusual, compare, unusual, unusual_against_hours
from dunmist.errors import CaptureError, HistoryError, WrongUsage
from dunmist.history import Period, identity_of, read_history
from dunmist.history.past import hours_alike
from dunmist.jobs.judge import PointInTime, judge, part_of
from dunmist.jobs.settings import history_path
from dunmist.series import WHOLE, Part

CAPTURES = "*.jsonl.gz"
# so many days of the history instead of captures
HISTORY = re.compile(r"history:(\d{1,3})d")


class Question(NamedTuple):
    """Captures to compare: ``normal`` is empty for before and after."""

    normal: list[Path]
    before: Path | None
    now: Path
    match: Match = "both"
    days: int | None = None  # of the history, where that is what is usual


def question_of(paths: Sequence[Path], normal: Sequence[Path], match: Match = "both") -> Question:
    """Return the question: two files are before and after, more of them or a folder what is usual.

    Raises WrongUsage and CaptureError.
    """
    *others, last = paths
    asked = HISTORY.fullmatch(str(others[0])) if others else None
    if asked is not None:
        if len(others) > 1 or normal:
            raise WrongUsage("history:DAYSd is what is usual; leave the other captures out")
        return Question([], None, last, match, days=int(asked[1]))
    if last.is_dir():
        raise WrongUsage(f"{last} is a folder; the last argument is the capture of now")
    if not normal and len(others) == 1 and not others[0].is_dir() and not _is_pattern(others[0]):
        if _same(others[0], last):
            raise WrongUsage(f"{last} is given twice; name the capture of before and that of after")
        return Question([], others[0], last, match)
    usual = good_captures([*normal, *others], last)
    if not usual:
        raise WrongUsage("a comparison needs two captures; add an earlier one, or --normal PLACE")
    return Question(usual, None, last, match)


def answer(question: Question) -> Compared:
    """Return the comparison in words; raises CaptureError and SettingsError."""
    now = _examined(question.now)
    if question.days is not None:
        return describe_unusual(unusual_against_hours(_hours(now, question.days), now))
    if question.before is not None:
        return describe_comparison(compare(_examined(question.before), now, question.match))
    good = [_examined(file) for file in question.normal]
    return describe_unusual(unusual(good, now, question.match))


def _hours(now: Examined, days: int) -> list[Period]:
    """Return the hours of the history at this time of day; raises HistoryError."""
    began_s = datetime.fromisoformat(now.series.header.started).timestamp()
    path = history_path()
    with read_history(path) as history:
        if history.identity() != identity_of(now.series.header.machine).text:
            raise HistoryError(f"{path}: is of another computer than {now.series.path}")
        return hours_alike(history.periods(), began_s, days)


def compare_parts(path: Path, before: Part, after: Part) -> Compared:
    """Return the changes from one part of a capture to another; raises CaptureError."""
    return describe_comparison(compare(_examined(path, before), _examined(path, after)))


def compare_around(path: Path, point: PointInTime) -> Compared:
    """Return the changes in a capture from before a time to after it; raises CaptureError."""
    return compare_parts(path, part_of(path, None, point), part_of(path, point, None))


def compare_with_normal(judged: Judged, normal: Sequence[Path]) -> Unusual:
    """Return the unusual figures of a judged capture; raises CaptureError and SettingsError."""
    now = Examined(judged.series, judged.diagnosis)
    return unusual([_examined(path) for path in good_captures(normal, judged.series.path)], now)


def good_captures(paths: Sequence[Path], now: Path) -> list[Path]:
    """Return the captures in paths, each once and without the judged one."""
    files = dict.fromkeys(file for path in paths for file in _files(path))
    return [file for file in files if not _same(file, now)]


def _examined(file: Path, part: Part = WHOLE) -> Examined:
    judged = judge(file, part=part, looks_for_bad_window=False)
    return Examined(judged.series, judged.diagnosis)


def _files(path: Path) -> list[Path]:
    if path.is_dir():
        files = sorted(path.glob(CAPTURES))
    elif _is_pattern(path):
        files = sorted(path.parent.glob(path.name))
    else:
        return [path]
    if not files:
        raise CaptureError(f"{path}: holds no capture ({CAPTURES}); name another folder")
    return files


def _is_pattern(path: Path) -> bool:
    return not path.exists() and any(mark in path.name for mark in "*?[")


def _same(path: Path, other: Path) -> bool:
    try:
        return path.samefile(other)
    except OSError:
        return False  # the reader reports the error
