"""Topics ``services`` and ``autostart``: what runs or starts by itself, and what it has cost."""

import numpy as np
import pandas as pd

from dunmist.computer import Unit
from dunmist.series.load import Series
from dunmist.series.started import Cost, Started
from dunmist.series.tables._frames import frame_of

ON_THE_WAY = ("activating", "deactivating", "reloading")


def service_table(series: Series) -> pd.DataFrame:
    """Return one row for each service and timer, those in trouble first, then the dearest."""
    started = _started(series)
    first = {unit.name: unit for survey in series.surveys[:1] for unit in survey.units}
    survey = series.last_survey
    rows: list[dict[str, object]] = []
    for unit in survey.units if survey else []:
        cost = started.of_unit(unit)
        before = first.get(unit.name)
        rows.append(
            {
                "unit": unit.name,
                # where no service manager answered, processes in its group show that it runs
                "state": unit.active or ("active" if cost.pids else None),
                "detail": unit.sub,
                "starts_by_itself": unit.starts,
                "stuck": _is_stuck(unit, before),
                "failed": unit.active == "failed",
                "restarts": unit.restarts,
                "pids": " ".join(map(str, cost.pids)) or None,
                **_amounts(cost),
                "since_s": unit.since_s,
                "result": unit.result,
                "schedule": unit.schedule,
                "last_run_s": unit.last_run_s,
                "next_run_s": unit.next_run_s,
                "triggers": unit.triggers,
                "about": unit.about,
            }
        )
    return frame_of(rows, "stuck", "failed", "cpu_s")


def autostart_table(series: Series) -> pd.DataFrame:
    """Return one row for each thing that starts by itself, the dearest first."""
    started = _started(series)
    rows: list[dict[str, object]] = []
    for entry in series.surveys[0].autostart if series.surveys else []:
        rows.append(
            {
                "name": entry.name,
                "kind": entry.kind,
                "when": entry.when,
                "user": entry.user or "everybody",
                "enabled": entry.enabled,
                **_amounts(started.of_entry(entry)),
                "command": entry.command,
                "file": entry.file,
            }
        )
    survey = series.last_survey
    for unit in survey.units if survey else []:
        if (unit.starts or "").startswith("enabled"):
            timer = unit.name.endswith(".timer")
            rows.append(
                {
                    "name": unit.name,
                    "kind": "timer" if timer else "service",
                    "when": (unit.schedule or "timer") if timer else "boot",
                    "user": "everybody",
                    "enabled": True,
                    **_amounts(started.of_unit(unit)),
                    "command": unit.triggers,
                    "file": None,
                }
            )
    return frame_of(rows, "cpu_s")


def group_table(series: Series) -> pd.DataFrame:
    """Return one row for each control group watched: the busiest, and those with a quota."""
    rows = []
    for one in series.devices.groups:
        row: dict[str, object] = {
            "group": one.path,
            "quota_cores": one.quota_cores,
            "limited_share": float(np.nanmean(one.limited)),
        }
        for resource, stalled in one.stalled.items():
            row[f"stalled_{resource}_share"] = float(np.nanmean(stalled))
        rows.append(row)
    return pd.DataFrame(rows)


def _started(series: Series) -> Started:
    about = series.header.machine
    return Started(series.processes, about.clock_ticks_per_s, about.page_bytes)


def _is_stuck(unit: Unit, before: Unit | None) -> bool:
    """Whether it was on the way to another state at both ends of the capture."""
    both = unit.active in ON_THE_WAY and before is not None and before.active == unit.active
    return both and before is not None and before.since_s == unit.since_s


def _amounts(cost: Cost) -> dict[str, float | int | None]:
    # what has ended has taken its counters with it
    ran = bool(cost.pids)
    return {
        "cpu_s": cost.cpu_s if ran else None,
        "rss_bytes": cost.rss_bytes if ran else None,
        "read_bytes": cost.read_bytes,
    }
