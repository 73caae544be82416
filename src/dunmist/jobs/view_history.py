"""Read a history and put it into words."""

from pathlib import Path

from dunmist.advice import HistoryQuestion, HistoryReport, describe_history
from dunmist.errors import HistoryError
from dunmist.history import Period, read_given, read_history
from dunmist.jobs.settings import history_path


def history_of(given: Path | None, asked: HistoryQuestion) -> tuple[HistoryReport, list[Period]]:
    """Return the report on the last days of a history, and all its periods.

    By default it is this computer's own history. Raises HistoryError, and UnknownName if no
    program has the name.
    """
    path = given or history_path()
    with read_history(path) if given is None else read_given(given) as history:
        owner = history.identity() or ""
        periods, events = history.periods(), history.events()
    if not periods:
        raise HistoryError(f"{path}: has no hour yet; let 'dunmist watch' run for some minutes")
    return describe_history(owner.partition("\n")[0], periods, events, asked), periods
