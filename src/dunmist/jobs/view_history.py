"""Reads a history and has it told."""

from pathlib import Path

from dunmist.advice import HistoryQuestion, HistoryTold, tell_history
from dunmist.errors import HistoryError
from dunmist.history import Period, read_history


def history_of(path: Path, asked: HistoryQuestion) -> tuple[HistoryTold, list[Period]]:
    """Return what a history says of its last days, and all its periods.

    Raises HistoryError, and UnknownName where no program of that name is in it.
    """
    with read_history(path) as history:
        owner = history.identity() or ""
        periods, events = history.periods(), history.events()
    if not periods:
        raise HistoryError(f"{path}: has no hour yet; let 'dunmist watch' run for some minutes")
    return tell_history(owner.partition("\n")[0], periods, events, asked), periods
