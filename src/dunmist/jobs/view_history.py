"""Read a history and put it into words."""

from pathlib import Path

from dunmist.advice import HistoryQuestion, HistoryTold, tell_history
from dunmist.errors import HistoryError
from dunmist.history import Period, read_given, read_history
from dunmist.jobs.settings import history_path


def history_of(given: Path | None, asked: HistoryQuestion) -> tuple[HistoryTold, list[Period]]:
    """Return what a history says of its last days, and all its periods; by default the own one.

    Raises HistoryError, and UnknownName where no program of that name is in it.
    """
    path = given or history_path()
    with read_history(path) if given is None else read_given(given) as history:
        owner = history.identity() or ""
        periods, events = history.periods(), history.events()
    if not periods:
        raise HistoryError(f"{path}: has no hour yet; let 'dunmist watch' run for some minutes")
    return tell_history(owner.partition("\n")[0], periods, events, asked), periods
