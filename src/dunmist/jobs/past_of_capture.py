"""Finds what the history says of the computer of a capture."""

import logging
from datetime import datetime
from pathlib import Path

from dunmist.errors import HistoryError
from dunmist.history import identity_of, read_given, read_history
from dunmist.history.past import Past, past_of
from dunmist.jobs.settings import history_path
from dunmist.series import Series

_LOG = logging.getLogger(__name__)


def past_of_capture(series: Series, given: Path | None = None) -> Past | None:
    """Return the past of a capture, None without a history of its computer.

    Without ``given`` it is the history of this computer, for live captures of it; what is wrong
    with that one is said in a line. Raises HistoryError where the given one cannot be used.
    """
    header = series.header
    path = given or history_path()
    if given is None and (not header.live or header.by_shell or not path.exists()):
        return None
    began_s = datetime.fromisoformat(header.started).timestamp() + series.since_s
    try:
        with read_history(path) if given is None else read_given(path) as history:
            owner, own = history.identity(), identity_of(header.machine)
            if owner == own.text:
                return past_of(history, began_s, began_s + series.duration_s)
            if given is not None:
                raise HistoryError(
                    f"{path}: is of another computer than the capture; give that of {own.host}"
                )
    except HistoryError as error:
        if given is not None:
            raise
        _LOG.warning("%s; triaged without it", error)
    return None
