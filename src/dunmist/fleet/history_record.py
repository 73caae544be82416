"""Makes the record of one history: the figures that are followed, and those that drift."""

from datetime import date, timedelta
from pathlib import Path

from dunmist.errors import HistoryError
from dunmist.fleet.capture_locations import CaptureLocation
from dunmist.fleet.records import DriftRow, HistoryRecord, HistoryRow
from dunmist.history import Event, read_given
from dunmist.history.daily_figures import Followed, series_of
from dunmist.history.drifts import Drift, drift_of
from dunmist.history.past import changes_near
from dunmist.history.trend import POINTS_LEAST

EPOCH = date(1970, 1, 1)


def history_record(location: CaptureLocation, key: str, path: Path) -> HistoryRecord:
    """Return the record of a history; raises HistoryError."""
    with read_given(path) as history:
        host = (history.identity() or "").partition("\n")[0]
        periods, events = history.periods(), history.events()
    if not periods:
        raise HistoryError(f"{location.address}: has no hour yet")
    followed = [each for each in series_of(periods, events) if len(each.points) >= POINTS_LEAST]
    drifts = ((each, drift_of(each)) for each in followed)
    return HistoryRecord(
        HistoryRow(
            key,
            location.address,
            location.site,
            host=host or None,
            until_s=float(max(period.began_s + period.length_s for period in periods)),
            days=len({period.local_day for period in periods}),
            followed=[_figure(each) for each in followed],
        ),
        [_row(key, each, drift, events) for each, drift in drifts if drift is not None],
    )


def _figure(followed: Followed) -> str:
    return f"{followed.word} {followed.name}".rstrip()


def _row(key: str, followed: Followed, drift: Drift, events: list[Event]) -> DriftRow:
    return DriftRow(
        key,
        figure=_figure(followed),
        kind=drift.word,
        name=drift.name or None,
        since=str(EPOCH + timedelta(days=drift.since_day)),
        level=drift.level,
        now=drift.now,
        unit=drift.unit,
        changes=[event.name for event in changes_near(drift, events)],
    )
