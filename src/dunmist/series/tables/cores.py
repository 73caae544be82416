"""Topic ``cores``: every logical processor."""

import numpy as np
import pandas as pd

from dunmist.series.curves import curve
from dunmist.series.load import Series
from dunmist.series.rates import Floats
from dunmist.series.tables._frames import frame_of, greatest, least, mean

CURVE_POINTS = 12


def core_table(series: Series) -> pd.DataFrame:
    """Return one row for each logical processor."""
    machine = series.machine
    places = {one.number: one for one in series.header.machine.processors}
    busy = machine.busy
    rows = []
    for column, number in enumerate(machine.numbers):
        place = places.get(number)
        clock = None if machine.clocks_hz is None else machine.clocks_hz[:, column]
        row: dict[str, object] = {
            "cpu": number,
            "core": place.core if place else None,
            "package": place.package if place else None,
            "busy_mean": mean(busy[:, column], machine.interval_s),
            "busy_median": known_median(busy[:, column]),
            "busy_max": greatest(busy[:, column]),
            "busy_curve": curve(busy[:, column], CURVE_POINTS),
            **_busiest(series, number),
        }
        for kind in ("user", "nice", "system", "iowait", "irq", "softirq", "steal"):
            row[f"{kind}_share"] = mean(machine.kind_of_time(kind)[:, column], machine.interval_s)
        row |= {
            "clock_hz": None if clock is None else known_median(clock),
            "clock_least_hz": None if clock is None else least(clock),
            "max_clock_hz": _khz(place.max_khz if place else None),
            "base_clock_hz": _khz(place.base_khz if place else None),
            "governor": place.governor if place else None,
            "capacity": place.capacity if place else None,
        }
        rows.append(row)
    # processors that share a core, and cores that share a package, stand together
    return frame_of(sorted(rows, key=_place))


def _place(row: dict[str, object]) -> tuple[int, int, int]:
    package, core, cpu = (
        value if isinstance(value := row[name], int) else -1 for name in ("package", "core", "cpu")
    )
    return package, core, cpu


def _busiest(series: Series, number: int) -> dict[str, object]:
    """Return which application used most of a processor, by where its processes were seen."""
    used = series.processes.processor_cpu_s
    if number >= len(used) or not used[number].any():
        return {"busiest_application": None, "busiest_cores": None}
    first = int(np.argmax(used[number]))
    return {
        "busiest_application": series.processes.grouping.applications[first].name,
        "busiest_cores": float(used[number][first]) / series.duration_s,
    }


def interrupt_table(series: Series) -> pd.DataFrame:
    """Return interrupts by source, the most frequent first; those that never came are left out."""
    rows: list[dict[str, object]] = [
        {"source": source, "kind": kind, "times_per_s": count / series.duration_s}
        for kind, counts in (
            ("interrupt", series.devices.interrupts),
            ("soft interrupt", series.machine.soft_interrupts),
        )
        for source, count in counts.items()
        if count
    ]
    return frame_of(rows, "times_per_s")


def known_median(values: Floats) -> float | None:
    """Return the median of the known values, None when none is."""
    return None if np.isnan(values).all() else float(np.nanmedian(values))


def _khz(clock: int | None) -> float | None:
    return None if clock is None else clock * 1e3
