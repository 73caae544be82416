"""Topic ``sessions``: who is logged in, and whose processes load the computer."""

import pandas as pd

from dunmist.series.load import Series
from dunmist.series.tables._frames import frame_of


def session_table(series: Series) -> pd.DataFrame:
    """Return one row for each login."""
    survey = series.last_survey
    rows = [
        {
            "user": one.user,
            "terminal": one.terminal,
            "from": one.origin,
            "graphical": one.graphical,
            "since_s": one.since_s,
            "idle_s": one.idle_s,
            "active": one.active,
            "pid": one.pid,
        }
        for one in (survey.sessions if survey else [])
    ]
    return pd.DataFrame(rows)


def owner_table(series: Series) -> pd.DataFrame:
    """Return one row for each owner of processes, the greatest use first."""
    processes, grouping = series.processes, series.processes.grouping
    page_bytes = series.header.machine.page_bytes
    totals: dict[str, list[float]] = {}
    for identity, sample in processes.last.items():
        facts = grouping.facts(identity)
        if facts.kernel or identity in processes.ended_tick:
            continue
        total = totals.setdefault(facts.user or "unknown", [0, 0.0, 0.0])
        private = max(0, sample.rss_pages - (sample.shared_pages or 0)) * page_bytes
        cores = float(processes.process_cpu_s[identity]) / series.duration_s
        totals[facts.user or "unknown"] = [total[0] + 1, total[1] + cores, total[2] + private]
    rows: list[dict[str, object]] = [
        {"user": user, "processes": int(count), "cores_mean": cores, "private_bytes": private}
        for user, (count, cores, private) in totals.items()
    ]
    return frame_of(rows, "cores_mean")
