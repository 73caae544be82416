"""Figures in words for people: percent, sizes, times, cores. Only here units leave SI."""

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

SIZES = (("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10))
BITS_PER_MBIT, S_PER_DAY = 1e6, 86_400.0


def percent(share: float) -> str:
    """Return a share as percent, small ones with a decimal so that they do not vanish."""
    # rounded first, so that a figure reads the same before and after it went through JSON
    value = float(f"{100.0 * share:.4g}")
    if 0 < abs(value) < 0.05:
        return "under 0.1 %"
    return f"{value:.1f} %" if 0 < abs(value) < 9.95 else f"{value:.0f} %"


def size_text(size_bytes: float) -> str:
    """Return a number of bytes in the largest unit that keeps it above one."""
    if math.isnan(size_bytes):
        return "unknown"
    for unit, factor in SIZES:
        if abs(size_bytes) >= factor:
            return f"{size_bytes / factor:.1f} {unit}"
    return f"{size_bytes:.0f} bytes"


def cores_text(cores: float, processors: float) -> str:
    """Return CPU use with its share of the machine: ``1.98 cores (25 % of 8)``."""
    return f"{cores:.2f} cores ({percent(cores / processors)} of {processors:.0f})"


def span_text(seconds: float) -> str:
    """Return a duration in its two largest units."""
    minutes, rest_s = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    days, hours = divmod(hours, 24)
    if days:
        return f"{days} d {hours} h"
    if hours:
        return f"{hours} h {minutes} min"
    if minutes:
        return f"{minutes} min {rest_s} s"
    return f"{seconds:.3g} s"


def amount_text(value: float, unit: str, of: float | None) -> str:
    """Return a figure with its unit as people write it."""
    if unit == "cores" and of:
        return cores_text(value, of)
    return _WRITTEN.get(unit, plain_number)(value)


def date_text(day: float) -> str:
    """Return a local date, given in days since 1970, as people write it."""
    date = datetime.fromtimestamp(day * S_PER_DAY, UTC)
    return f"{date.day} {date:%B %Y}"


def tasks_text(mean: float) -> str:
    """Return the number of a program's tasks that did something at any time, in words."""
    if mean >= 1:
        return f"{plain_number(round(mean, 1))} of its tasks at any time, on average"
    return f"one of its tasks for {percent(mean)} of the time"


def freed_text(value: float, unit: str) -> str:
    """Return an estimate of what a step frees, as it goes after its risk."""
    return f"frees about {freed_amount(value, unit)}"


def freed_amount(value: float, unit: str) -> str:
    """Return an amount of a resource that is or was freed, as roughly as it is known."""
    return f"{value:.2g} cores" if unit == "cores" else amount_text(value, unit, None)


def listed(names: Sequence[str]) -> str:
    """Return names as they stand in a sentence: 'a', 'a and b', 'a, b and c'."""
    return " and ".join(filter(None, (", ".join(names[:-1]), *names[-1:])))


def plain_number(value: float) -> str:
    """Return a figure without a unit to three places, never with an exponent for a large one."""
    return f"{value:.0f}" if abs(value) >= 100 or value.is_integer() else f"{value:.3g}"


# how a figure is written, by its unit; others as plain numbers
_WRITTEN: Mapping[str, Callable[[float], str]] = {
    "share": percent,
    "bytes": size_text,
    "bytes/s": lambda value: f"{size_text(value)} a second",
    "bits/s": lambda value: f"{value / BITS_PER_MBIT:.3g} Mbit/s",
    "pages/s": "{:,.0f}".format,
    "s": lambda value: f"{1000 * value:.3g} ms" if 0 < value < 1 else span_text(value),
    "°C": "{:.0f} °C".format,
    "K": "{:.0f} K".format,
    "dBm": "{:.0f} dBm".format,
    "W": "{:.1f} W".format,
    "tasks": tasks_text,
    "count": "{:.0f}".format,
    "number": "{:.0f}".format,
}
